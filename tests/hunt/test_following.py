"""What a channel beside a line follows, and channels as evidence for Hunt."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from keel.errors import InputError
from keel.hunt.channels import channel_named, points_of, series_from, spans_beyond, spans_from
from keel.hunt.following import followed
from keel.hunt.series import WITHIN_S
from keel.model.frames import FrameBatch, batch_of, concat
from keel.store.recording import Recording, Snapshot
from tests.command import keel

WORK = "--at 1s:ramp=down --at 1.8s:ramp=stop --at 2.6s:ramp=up --at 3.3s:ramp=stop"


@pytest.fixture(scope="module")
def ramp(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The ramp's panel and motor, worked twice; and the same with the panel dead."""
    folder = tmp_path_factory.mktemp("ramp")
    for name, more in (("works", ()), ("dead", ("fault-panel=on",))):
        out = folder / f"{name}.csv"
        assert keel("bench", "--probe", "ramp", "--seconds", "4", *more, *WORK.split(), "-o", out).returncode == 0
        assert keel("decode", out, "-o", folder / f"{name}.keel", "--as", "kline:panel").returncode == 0
    return folder


@pytest.fixture(scope="module")
def snapshot(ramp: Path) -> Snapshot:
    return Recording(ramp / "works.keel").snapshot()


def test_spans_in_which_a_channel_is_beyond_a_voltage(snapshot: Snapshot) -> None:
    spans = spans_beyond(snapshot, "motor<11V")
    assert spans is not None and len(spans) == 2
    assert [span.start / 1e9 for span in spans] == pytest.approx([1.044, 2.645], abs=0.002)
    above = spans_beyond(snapshot, "Motor > 11000mV")
    assert above is not None and len(above) == 3 and above[0].start == 0
    assert spans_beyond(snapshot, "motor<5V") == [] and spans_beyond(snapshot, "motor>5V") == []
    assert spans_beyond(snapshot, "nobody<5V") is None and spans_beyond(snapshot, "pressed.csv") is None


def test_a_channel_or_a_file_may_be_given(snapshot: Snapshot, tmp_path: Path) -> None:
    file = tmp_path / "motor"
    file.write_text("1,2\n3,4\n")
    assert len(spans_from(snapshot, file, 0)) == 2 and len(spans_from(snapshot, Path("motor<11V"), 0)) == 2
    points, within = series_from(snapshot, Path("motor"), 0)
    assert within == 1.0 and 3_000 < len(points.times) <= 4_001 and 8 < points.values.min() < points.values.max() < 13
    assert series_from(snapshot, file, 0)[1] == WITHIN_S
    for wrong in ("mator", "mator<11V"):
        with pytest.raises(InputError):
            spans_from(snapshot, Path(wrong), 0)
    entry = channel_named(snapshot, "MOTOR")
    assert entry is not None and len(points_of(snapshot, entry).times) == len(points.times)


def test_hunt_says_what_the_motor_follows_and_by_how_long(ramp: Path) -> None:
    found = json.loads(keel("hunt", ramp / "works.keel", "--marks", "motor<11V", "--json").stdout)
    begins, answer, ends, _ = found["notes"][-4:]
    assert begins.startswith(
        "begins 38.0 ms after panel 31 changed: 1 of 2 times 00 31 → A5 D6, once → 5A 8B; it changed"
    )
    assert "after panel B1" in answer and "ends 12.0 ms" in ends and "2 of 2 times various → 00 31" in ends
    series = json.loads(keel("hunt", ramp / "works.keel", "--series", "motor", "--json").stdout)
    assert {row["id"] for row in series["candidates"]} <= {"31", "B1"} and series["candidates"]


def test_with_the_panel_dead_nothing_follows_and_compare_says_which_code_is_missing(ramp: Path) -> None:
    dead = Recording(ramp / "dead.keel").snapshot()
    assert spans_beyond(dead, "motor<11V") == []
    rows = dead.rows(0, dead.frames)
    assert {rows.payload(row) for row in range(len(rows))} == {b"\x00\x31", b"\x00\xb1"}
    said = json.loads(keel("compare", ramp / "dead.keel", ramp / "works.keel", "--json").stdout)
    assert {one["id"] for one in said["differences"] if "moving" in one["kind"]} == {"31", "B1"}


def frames(times: list[float], says: list[int], ident: int) -> FrameBatch:
    return batch_of(np.array([round(one * 1e9) for one in times], np.int64), ident, [bytes([one]) for one in says])


def test_the_steadiest_is_named_and_what_comes_at_any_time_is_not() -> None:
    times = [n / 10 for n in range(100)]
    steady = frames(times, [n // 10 % 2 for n in range(100)], 0x10)
    echo = frames([one + 0.01 for one in times], [n // 10 % 2 for n in range(100)], 0x11)
    busy = frames([one + 0.005 for one in times], [n % 2 for n in range(100)], 0x12)
    still = frames([one + 0.006 for one in times], [7] * 100, 0x13)
    whole = concat([steady, echo, busy, still])
    whole = whole.take(np.argsort(whole.time, kind="stable"))
    moments = np.array([round((n + 0.04) * 1e9) for n in range(1, 10)], np.int64)
    found = followed(whole, moments)
    assert found[0].key & 0xFF == 0x10 and found[1].key & 0xFF == 0x11
    assert found[0].mean == pytest.approx(4e7) and (found[0].times, found[0].of, found[0].changes) == (9, 9, 9)
    assert (
        found[0]
        .words(["a"])
        .startswith("40.0 ms after a 010 changed: 5 of 9 times 00 → 01, 4 times 01 → 00; it changed 9 ")
    )
    # At any time after a change nothing is followed.
    loose = np.array([round((n + 0.02 + 0.09 * n) * 1e9) for n in range(1, 9)], np.int64)
    assert not [one for one in followed(steady, loose) if one.key & 0xFF == 0x10]
    assert followed(steady, np.zeros(0, np.int64)) == []


def test_a_change_is_counted_by_what_it_led_to() -> None:
    """Three crossings, each 20 ms behind a change: twice to one payload, once to another."""
    codes = [0, 1, 0, 1, 0, 2, 0]
    payloads = [b"\x7d\x06", b"\x31\x5c", b"\x2e\x53"]
    times = np.arange(len(codes)) * 1_000_000_000
    line = batch_of(times, 0x31, [payloads[code] for code in codes])
    (found,) = followed(line, times[[1, 3, 5]] + 20_000_000)
    assert found.words(["panel"]) == (
        "20.0 ms after panel 031 changed: 2 of 3 times 7D 06 → 31 5C, once → 2E 53; it changed 6 times in all"
    )
