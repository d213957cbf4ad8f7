"""Several captures of one line put behind each other."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from keel.errors import InputError
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.appending import in_sequence, joined
from keel.store.recording import Recording
from tests.command import keel
from tests.lines.waves import vcd
from tests.lines.wires import uart, wave


def channel(wave_of: Logic | Analog, name: str = "tx") -> Channel:
    return Channel(name, 1, wave_of)


def capture(folder: Path, number: int) -> Path:
    path = folder / f"capture{number}.vcd"
    line = wave(uart(b"hello %d\r\n" % number * 4, 9_600, pauses=[10.0] * 40))
    path.write_bytes(vcd(tx=line))
    return path


def payloads(folder: Path) -> list[bytes]:
    snapshot = Recording(folder).snapshot()
    rows = snapshot.rows(0, snapshot.frames)
    return [rows.payload(n) for n in range(len(rows))]


def test_levels_go_on_behind_what_is_not_known() -> None:
    first = Logic(0, 1_000, 0, np.array([100], np.int64))
    second = Logic(2_000, 3_000, 0, np.array([2_500], np.int64))
    whole = joined(channel(first), channel(second)).wave
    assert isinstance(whole, Logic)
    assert whole.unknown == ((1_000, 2_000),) and whole.end == 3_000
    # It was high at the end of the first, and is low from the begin of the second on.
    assert [whole.level_at(time) for time in (50, 500, 2_100, 2_600)] == [0, 1, 0, 1]
    parts = [(part.start, part.first, part.edges.tolist()) for part in whole.stretches()]
    assert parts == [(0, 0, [100]), (2_000, 0, [2_500])]


def test_volts_go_on_at_their_interval() -> None:
    first = Analog(0, 10.0, np.array([1, 2], np.int16), 0.5)
    second = Analog(50, 10.0, np.array([3.0, 4.0], np.float32))
    whole = joined(channel(first), channel(second)).wave
    assert isinstance(whole, Analog)
    assert whole.volts().tolist() == [0.5, 1.0, 1.0, 1.0, 1.0, 3.0, 4.0]
    assert whole.unknown == ((first.end, 50),)


def test_captures_of_other_kinds_intervals_or_channels_are_refused() -> None:
    levels, volts = Logic(0, 10, 0, np.zeros(0, np.int64)), Analog(0, 1.0, np.zeros(5, np.float32))
    with pytest.raises(InputError, match="one kind"):
        joined(channel(levels), channel(volts))
    with pytest.raises(InputError, match="at one interval"):
        joined(channel(volts), channel(Analog(100, 2.0, np.zeros(5, np.float32))))
    with pytest.raises(InputError, match="not in both"):
        in_sequence([channel(levels, "a"), channel(levels, "b")], [channel(levels, "a"), channel(levels, "c")])


def test_a_capture_whose_clock_goes_on_stays_where_it_is() -> None:
    first = Logic(0, 1_000, 0, np.zeros(0, np.int64))
    later = Logic(7_000, 8_000, 0, np.array([7_500], np.int64))
    (whole,) = in_sequence([channel(first)], [channel(later)])
    assert isinstance(whole.wave, Logic) and whole.wave.edges.tolist() == [7_500]
    (moved,) = in_sequence([channel(first)], [channel(Logic(0, 1_000, 0, np.array([500], np.int64)))])
    assert isinstance(moved.wave, Logic) and moved.wave.edges.tolist() == [1_000 + 1_000 + 500]


def test_captures_become_one_line_in_sequence_and_that_is_undone(tmp_path: Path) -> None:
    files = [capture(tmp_path, number) for number in range(3)]
    folder = tmp_path / "all.keel"
    done = keel("decode", files[0], files[1], "-o", folder, "--append", "--json")
    assert done.returncode == 0, done.stderr
    (line,) = json.loads(done.stdout)["lines"]
    assert line["frames"] == 8 and line["faulty"] == 0
    assert keel("decode", files[2], "-o", folder, "--append").returncode == 0
    assert payloads(folder) == [b"hello %d\r\n" % (n // 4) for n in range(12)]
    snapshot = Recording(folder).snapshot()
    assert len(snapshot.manifest.lines) == 1 and len(snapshot.manifest.buses) == 1
    assert keel("decode", folder, "--undo").returncode == 0
    assert payloads(folder) == [b"hello %d\r\n" % (n // 4) for n in range(8)]
    assert len(Recording(folder).snapshot().manifest.waveforms) == len(snapshot.manifest.waveforms)
    assert keel("decode", folder, "--undo").returncode == 0 and len(payloads(folder)) == 12


def test_what_was_said_of_a_line_holds_for_what_follows(tmp_path: Path) -> None:
    folder = tmp_path / "all.keel"
    first, second = capture(tmp_path, 0), capture(tmp_path, 1)
    assert keel("decode", first, "-o", folder, "--as", "uart", "--set", "length=3").returncode == 0
    assert keel("decode", second, "-o", folder, "--append").returncode == 0
    assert all(len(one) == 3 for one in payloads(folder)) and len(payloads(folder)) == 24


def test_align_and_append_are_one_or_the_other(tmp_path: Path) -> None:
    done = keel("decode", capture(tmp_path, 0), "-o", tmp_path / "x.keel", "--append", "--align", "auto")
    assert done.returncode != 0
