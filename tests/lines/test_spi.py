"""SPI read from its wires, in all modes, with and without selects."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import InputError
from keel.lines.clocked import Wire
from keel.lines.code import Asked, Guess, How
from keel.lines.spi import explain, read, word_of
from keel.media.spi import IN, OUT
from keel.model.faults import fault_words
from keel.model.frames import Flag
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.chips import Both, spi
from tests.lines.waves import vcd, volts
from tests.lines.wires import shaken

ROLES = {"sck": "clock", "mosi": "out", "miso": "in", "cs": "select", "cs0": "select", "cs1": "select"}


def wires(lines: dict[str, Logic]) -> list[Wire]:
    return [Wire(name, ROLES[name], line) for name, line in lines.items()]


def said(lines: dict[str, Logic], **asked: str) -> Guess:
    (found,) = read(wires(lines), Asked(settings=asked))
    return found


def talk(seed: int = 3, most: int = 256, selects: int = 1) -> list[Both]:
    draw = np.random.default_rng(seed)
    sizes = draw.integers(1, 6, 40).tolist()
    return [
        Both(draw.integers(0, most, n).tolist(), draw.integers(0, most, n).tolist(), k % selects)
        for k, n in enumerate(sizes)
    ]


def ways(found: Guess) -> tuple[list[bytes], list[bytes]]:
    frames = found.frames
    both: tuple[list[bytes], list[bytes]] = [], []
    for row in range(len(frames)):
        both[int(not frames.flags[row] & Flag.TX)].append(frames.payload(row))
    return both


@pytest.mark.parametrize("mode", range(4))
@pytest.mark.parametrize("selects", [0, 1, 2])
def test_each_mode_is_found(mode: int, selects: int) -> None:
    sent = talk(mode, selects=max(selects, 1))
    found = said(spi(sent, mode=mode, selects=selects))
    assert found.settings["mode"] == mode and found.settings["word"] == 8
    assert ways(found) == ([bytes(one.out) for one in sent], [bytes(one.back) for one in sent])
    assert found.frames.ident.tolist() == [one.select for one in sent for _ in (0, 1)]
    assert found.faulty == 0 and found.explained > 0.999 and abs(found.rate - 2e6) < 1


def test_words_of_other_lengths_and_the_other_bit_first() -> None:
    found = said(spi(talk(5, 1 << 12), word=12))
    assert found.settings["word"] == 12
    assert ways(found)[0][0] == b"".join(one.to_bytes(2, "big") for one in talk(5, 1 << 12)[0].out)
    mirrored = said(spi(talk(7), lsb=True), order="lsb")
    assert ways(mirrored)[0] == [bytes(one.out) for one in talk(7)] and "cannot be told" not in " ".join(mirrored.said)
    assert word_of(np.array([10, 20, 30, 10])) == 10 and word_of(np.array([16, 8, 24, 9] * 30)) == 8


def test_bits_left_over_are_a_fault_and_not_in_the_payload() -> None:
    sent = [*talk(9), Both([0x5A], [0xA5], 0, 3)]
    found = said(spi(sent))
    last = found.frames.take(np.array([len(found.frames) - 2]))
    assert last.payload(0) == b"\x5a" and fault_words(int(last.faults[0])) == ["length"]
    assert found.faulty == 2
    start = int(last.time[0])
    assert last.duration is not None
    fields = explain(wires(spi(sent)), How(found.how, found.settings), start, start + int(last.duration[0]), OUT.number)
    assert [(one.name, one.text, one.fault) for one in fields] == [("word", "5A", None), ("bits", "111", "length")]


def test_a_transfer_lasts_as_long_as_it_is_selected_else_as_its_clock() -> None:
    with_select, without = said(spi(talk())), said(spi(talk(), selects=0))
    lines = spi(talk())
    cs, sck = lines["cs"], lines["sck"]
    assert with_select.frames.duration is not None and without.frames.duration is not None
    assert with_select.frames.time[0] == cs.edges[0]
    assert with_select.frames.time[0] + with_select.frames.duration[0] == cs.edges[1]
    bits = 16 * len(talk()[0].out)
    assert without.frames.time[0] == sck.edges[0]
    assert without.frames.time[0] + without.frames.duration[0] == sck.edges[bits - 1]


def test_fields_are_words_each_way() -> None:
    lines = spi(talk())
    found = said(lines)
    assert found.frames.duration is not None
    start, end = int(found.frames.time[0]), int(found.frames.time[0] + found.frames.duration[0])
    for form, sent in ((OUT, talk()[0].out), (IN, talk()[0].back)):
        fields = explain(wires(lines), How(found.how, found.settings), start, end, form.number)
        assert [one.value for one in fields] == sent and b"".join(one.raw for one in fields) == bytes(sent)
        assert all(start <= one.start < one.end <= end for one in fields)


def test_settings_that_are_none_are_refused() -> None:
    for name, value in (("mode", "4"), ("word", "0"), ("order", "middle"), ("gap", "5")):
        with pytest.raises(InputError, match=f"{name}={value}"):
            said(spi(talk(), selects=0), **{name: value})


@given(st.integers(0, 10_000), st.integers(0, 3), st.sampled_from([100e3, 1e6, 20e6]), st.booleans())
@settings(max_examples=25)
def test_what_is_sent_is_read(seed: int, mode: int, rate: float, has_select: bool) -> None:
    sent = talk(seed)
    lines = spi(sent, rate, mode, selects=int(has_select))
    found = said({name: shaken(one, 0.012e9 / rate, seed + k) for k, (name, one) in enumerate(lines.items())})
    assert ways(found) == ([bytes(one.out) for one in sent], [bytes(one.back) for one in sent])


@pytest.mark.parametrize("selects", [0, 1, 2])
def test_it_is_found_among_wires_of_any_names(tmp_path: Path, selects: int) -> None:
    sent = talk(4, selects=max(selects, 1))
    lines = spi(sent, mode=1, selects=selects)
    called = dict(zip(lines, ["d", "a", "c", "b", "e"], strict=False))
    file, folder = tmp_path / "p.vcd", tmp_path / "r.keel"
    file.write_bytes(vcd(**{called[name]: line for name, line in lines.items()}))
    done = json.loads(keel("decode", file, "-o", folder, "--json").stdout)
    (line,) = done["lines"]
    assert (line["code"], line["settings"]["mode"], line["frames"]) == ("spi", 1, 80)
    assert keel("decode", folder, "--bus", "spi", "--as", "spi", "--set", "order=lsb").returncode == 0
    rows = [json.loads(row) for row in keel("frames", folder, "--json", "--fields").stdout.splitlines()]
    turned = bytes(int(f"{one:08b}"[::-1], 2) for one in sent[0].out).hex().upper()
    assert rows[0]["raw"] == turned and [one["dir"] for one in rows[:2]] == ["tx", "rx"]


def test_volts_are_read_too_and_roles_are_taken_as_they_are_given(tmp_path: Path) -> None:
    lines = spi(talk(), 100e3)
    columns = np.stack([volts(line, 500.0, 0.0, 3.3, 300.0, 0.05, n) for n, line in enumerate(lines.values())], axis=1)
    file, folder = tmp_path / "v.csv", tmp_path / "r.keel"
    rows = "\n".join(",".join(f"{one:.3f}" for one in row) for row in columns.tolist())
    file.write_text("Sample interval,500 ns\n" + ",".join(f"ch{n}" for n in range(4)) + "\n" + rows + "\n")
    roles = ("--channel", "ch0=clock", "--channel", "ch1=in", "--channel", "ch2=out", "--channel", "ch3=select")
    done = json.loads(keel("decode", file, "-o", folder, "--as", "spi", *roles, "--json").stdout)
    assert done["lines"][0]["frames"] == 80
    # Out and in were given the other way round.
    rows_read = [json.loads(row) for row in keel("frames", folder, "--json", "--fields").stdout.splitlines()]
    assert rows_read[1]["raw"] == bytes(talk()[0].out).hex().upper() and rows_read[1]["dir"] == "rx"
    wrong = keel("decode", file, "-o", tmp_path / "x.keel", "--as", "spi", "--channel", "ch0=command")
    assert wrong.returncode != 0 and "command is no role of spi" in wrong.stderr


def decoded(tmp_path: Path, lines: dict[str, Logic], *words: str) -> tuple[list[dict[str, object]], dict[str, object]]:
    """The lines that were found, and the first of them."""
    file, folder = tmp_path / "p.vcd", tmp_path / "r.keel"
    file.write_bytes(vcd(**lines))
    found = json.loads(keel("decode", file, "-o", folder, *words, "--json").stdout)["lines"]
    return found, found[0]


def test_selects_are_numbered_as_they_are_said(tmp_path: Path) -> None:
    lines = spi(talk(4, selects=2), selects=2)
    roles = ("sck=clock", "cs1=select", "cs0=select", "mosi=out", "miso=in")
    words = [word for role in roles for word in ("--channel", role)]
    decoded(tmp_path, lines, "--as", "spi", *words)
    rows = [json.loads(row) for row in keel("frames", tmp_path / "r.keel", "--json").stdout.splitlines()]
    assert [row["id"] for row in rows[:4]] == ["1", "1", "0", "0"]


def test_roles_that_are_left_out_are_found_and_other_channels_are_left_alone(tmp_path: Path) -> None:
    from tests.lines.wires import uart, wave

    lines = spi(talk(), mode=2)
    called = {"a": lines["mosi"], "b": lines["sck"], "c": lines["cs"]}
    talks = wave(uart(b"hello\n" * 4, 115_200))
    found, line = decoded(tmp_path, {"tx": talks, **called}, "--as", "spi", "--channel", "b=clock")
    assert len(found) == 1 and line["frames"] == 40 and line["settings"]["mode"] == 2  # type: ignore[index]


def test_a_wire_that_never_changes_still_carries_words(tmp_path: Path) -> None:
    lines = spi([Both(one.out, [0] * len(one.back)) for one in talk()])
    assert not len(lines["miso"].edges)
    found, line = decoded(tmp_path, lines)
    assert (line["code"], line["frames"]) == ("spi", 80) and len(found) == 1


@pytest.mark.parametrize(
    ("words", "what"),
    [
        (("--as", "spi", "--set", "wrd=12"), "wrd is no setting of spi"),
        (("--as", "i2c", "--set", "mode=1"), "mode is no setting of i2c; expected none"),
        (("--set", "colour=red"), "colour is no setting of any code"),
        (("--as", "spi", "--invert", "yes"), "says nothing of lines that go by a clock"),
    ],
)
def test_what_says_nothing_is_refused(tmp_path: Path, words: tuple[str, ...], what: str) -> None:
    (tmp_path / "p.vcd").write_bytes(vcd(**spi(talk())))
    refused = keel("decode", tmp_path / "p.vcd", "-o", tmp_path / "r.keel", *words)
    assert refused.returncode != 0 and what in refused.stderr and not (tmp_path / "r.keel").exists()


def test_a_clock_for_somebody_else_is_said() -> None:
    lines = spi(talk(selects=2), selects=2)
    del lines["cs1"]
    found = said(lines)
    assert len(found.frames) == 40 and found.frames.ident.max() == 0
    assert "of the clock lies where nothing is selected" in found.said[0]
