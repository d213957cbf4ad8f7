"""What is said of a bus afterwards: rates, name, stamps; in the store, by the command and in the app."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from keel.errors import InputError
from keel.measure.load import bus_means
from keel.measure.rates import likely_rates
from keel.model.bus import Bus, Rates
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.opened import Opened
from keel.signals.dictionary import Dictionary, Message
from keel.signals.signal import Signal
from keel.store.buses import changed, place_of, put_bus
from keel.store.manifest import edit_manifest, load_manifest
from keel.store.recording import Recording
from keel.store.writer import Writer
from tests.command import keel
from tests.making import START, Row, batch, recorded

BOOK = Dictionary((Message("a", Form.BASE, 0x100, "Pump", (Signal("level", BitField(0, 8)),)),))


@pytest.fixture
def two(tmp_path: Path) -> Path:
    """A second on two buses."""
    found = [Row(START + i * 10_000_000, 0x100, bytes(8), bus=i % 2) for i in range(200)]
    recorded(tmp_path / "r.keel", batch(found), dictionary=BOOK)
    return tmp_path / "r.keel"


def test_load_follows_a_corrected_rate(two: Path) -> None:
    def means() -> list[float]:
        span = Recording(two).snapshot().span
        return [mean.mean or 0.0 for mean in bus_means(Opened(two).frames().matches, span)]

    before = means()
    assert keel("bus", two, "b", "--bit-rate", "125000").returncode == 0
    assert means() == pytest.approx([before[0], before[1] * 2])


def test_a_new_name_goes_along_with_what_names_the_bus(two: Path) -> None:
    assert keel("bus", two, "A", "--name", "deck").returncode == 0
    manifest = load_manifest(two)
    assert manifest.bus_names == ["deck", "b"] and manifest.dictionary.messages[0].bus == "deck"
    assert len(Opened(two).frames("bus:deck")) == 100 and len(Opened(two).frames("name:Pump")) == 100


def test_the_end_of_a_frame_is_said_once_its_rate_is_known(two: Path) -> None:
    def ends() -> list[tuple[int, int | None]]:
        lines = keel("frames", two, "--json", "--ask", "bus:a", "--limit", "2").stdout.splitlines()
        return [(row["t"], row["t_end"]) for row in map(json.loads, lines)]

    assert [end for _, end in ends()] == [None, None]
    keel("bus", two, "a", "--bit-rate", "500000")
    assert all(end == time for time, end in ends())
    keel("bus", two, "a", "--stamp", "start")
    bits = int(Recording(two).snapshot().rows(0, 1).bits[0])
    # The intermission, 3 of the bits that are counted, follows the end; a bit lasts 2 µs.
    assert bits > 111 and [end for _, end in ends()] == [time + (bits - 3) * 2_000 for time, _ in ends()]


def test_the_end_of_a_frame_with_a_data_phase_needs_both_rates(tmp_path: Path) -> None:
    (tmp_path / "x.log").write_text("(1.0) can0 1A0##1" + "AB" * 12 + "\n(1.1) can0 1A0#00\n")
    keel("import", tmp_path / "x.log", "-o", tmp_path / "x.keel", "--bit-rate", "500000")

    def ends() -> list[int | None]:
        return [json.loads(line)["t_end"] for line in keel("frames", tmp_path / "x.keel", "--json").stdout.splitlines()]

    assert ends() == [None, 1_100_000_000]
    keel("bus", tmp_path / "x.keel", "can0", "--fast-bit-rate", "2000000")
    assert ends() == [1_000_000_000, 1_100_000_000]


def test_what_no_bus_can_be_is_refused_and_nothing_changes(two: Path) -> None:
    before = load_manifest(two).buses
    for words in (
        ["b", "--bit-rate", "0"], ["b", "--bit-rate", "9" * 20], ["b", "--name", "a"], ["b", "--name", " "],
        ["b", "--stamp", "middle"], ["c", "--bit-rate", "1000"], ["--bit-rate", "1000"],
    ):  # fmt: skip
        done = keel("bus", two, *words)
        assert done.returncode in (1, 2) and done.stderr.strip() and "Traceback" not in done.stderr, words
    assert load_manifest(two).buses == before


def test_the_buses_are_listed(two: Path) -> None:
    assert "a  can  500000 bit/s" in keel("bus", two).stdout
    (only,) = json.loads(keel("bus", two, "b", "--stamp", "start", "--json").stdout)
    rates = {"bit_rate": 250000, "fast_bit_rate": 250000, "assumed": True, "fast_assumed": True}
    assert only == {"name": "b", "medium": "can", "stamp": "start", **rates}


def test_an_exchange_is_undone_by_its_inverse(two: Path) -> None:
    with edit_manifest(two) as manifest:
        old = manifest.buses[0]
        put_bus(manifest, 0, changed(old, 125_000, name="deck"))
        put_bus(manifest, 0, old)
        assert manifest.buses[0] == old and manifest.dictionary == BOOK
        with pytest.raises(InputError, match="another bus"):
            put_bus(manifest, 0, changed(old, name="b"))
        assert place_of(manifest, "B") == 1


def test_rates_at_import_are_for_all_or_for_one() -> None:
    rates = Rates(250_000, None, {"b": 1_000_000}, {"b": 5_000_000})
    assert rates.bus("a") == Bus("a", 250_000, 2_000_000, assumed=False)
    assert rates.bus("b") == Bus("b", 1_000_000, 5_000_000, assumed=False, fast_assumed=False)
    assert Rates().bus("a") == Bus("a")
    assert Rates(None, None, {"b": 1}).named([Bus("a"), Bus("b")]) == ["b"]


def test_a_bus_that_would_be_overfull_is_taken_for_a_faster_one(tmp_path: Path) -> None:
    # About 118 bits each 200 µs: more than 500 kbit/s carry, less than 800.
    lines = [f"({1 + i * 300e-6:.6f}) can{i % 2} 1A5#A5A5A5A5A5A5A5A5" for i in range(20_000)]
    lines += [f"({1 + i * 300e-6:.6f}) can1 1A5#A5A5A5A5A5A5A5A5" for i in range(20_000)]
    (tmp_path / "x.log").write_text("\n".join(lines) + "\n")
    done = keel("import", tmp_path / "x.log", "-o", tmp_path / "x.keel")
    buses = load_manifest(tmp_path / "x.keel").buses
    assert [b.bit_rate for b in buses] == [500_000, 800_000]
    assert "bus can1: at 500 kbit/s it would be overfull" in done.stderr
    assert likely_rates(Recording(tmp_path / "x.keel").snapshot()) == {}
    named = keel(
        "import", tmp_path / "x.log", "-o", tmp_path / "y.keel", "--bit-rate", "can1=500000", "--bit-rate", "z=1000"
    )
    assert [b.bit_rate for b in load_manifest(tmp_path / "y.keel").buses] == [500_000, 500_000]
    assert "no bus is called z" in named.stderr and "overfull" not in named.stderr


@pytest.mark.parametrize("word", ["fast", "0", "can0=", "can0=x", "-1", "1e5", "can0=9" + "9" * 30])
def test_what_is_no_bit_rate_is_refused(tmp_path: Path, word: str) -> None:
    (tmp_path / "x.log").write_text("(1.0) can0 1A0#00\n")
    done = keel("import", tmp_path / "x.log", "-o", tmp_path / "x.keel", "--bit-rate", word)
    assert done.returncode in (1, 2) and "bit rate" in done.stderr and not (tmp_path / "x.keel").exists()


def test_a_rate_said_while_it_is_recorded_outlives_a_bus_that_turns_up(two: Path) -> None:
    writer = Writer(two)
    keel("bus", two, "a", "--bit-rate", "125000")
    assert writer.add_bus(Bus("c")) == 2
    writer.close()
    assert [bus.bit_rate for bus in load_manifest(two).buses] == [125_000, 250_000, 500_000]
