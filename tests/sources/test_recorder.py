"""The recorder and what it is worked through, with a source and a clock of our own."""

from __future__ import annotations

import errno
import json
import subprocess
import sys
import time
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pytest

from keel.errors import ControlError, InputError, RecordingError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, empty_batch
from keel.sources.bench import BenchSource
from keel.sources.recorder import record, start_recording
from keel.sources.registry import open_source
from keel.sources.source import Lost, Source
from keel.store.control import ControlReader, Status, ask_control, read_status, write_status
from keel.store.recording import Recording
from keel.store.writer import KEPT_FREE, Writer
from tests.making import START, Row, batch, new_recording


class Counting(Source):
    """A source that gives so many frames, one at each call, and remembers what was worked on it."""

    title = "a source for tests"

    def __init__(self, most: int = 5) -> None:
        super().__init__()
        self.buses = [Bus("a"), Bus("b")]
        self.most = most
        self.polls = 0
        self.worked: dict[str, str] = {"lamp": "off"}
        self.closed = False

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        if self.polls >= self.most:
            time.sleep(wait_s)
            return empty_batch()
        self.polls += 1
        return batch([Row(START + self.polls, 0x100, bytes([self.polls % 256]))])

    def control(self, name: str, value: str) -> None:
        if name not in self.worked:
            raise ControlError(f"no control is called “{name}”")
        self.worked[name] = value

    def state(self) -> dict[str, Any]:
        return dict(self.worked)

    def skipped(self) -> int:
        return 3

    def lost(self) -> Lost:
        return Lost(kernel=7)

    def close(self) -> None:
        self.closed = True


def recorded_for(folder: Path, source: Counting, polls: int) -> int:
    source.most = polls
    done = record(folder, [source], lambda: source.polls >= polls)
    assert (done.lost, done.skipped) == (Lost(kernel=7), 3)
    return done.frames


def test_every_frame_of_the_source_is_recorded_and_losses_are_told(tmp_path: Path) -> None:
    folder, source = tmp_path / "r.keel", Counting()
    start_recording(folder, [source])
    assert recorded_for(folder, source, 5) == 5
    snapshot = Recording(folder).snapshot()
    assert [snapshot.rows(i, i + 1).payload(0)[0] for i in range(snapshot.frames)] == [1, 2, 3, 4, 5]
    assert snapshot.manifest.lost == 7 and source.closed
    assert snapshot.manifest.source == "a source for tests"


def test_what_is_asked_while_recording_is_done_or_refused(tmp_path: Path) -> None:
    folder, source = tmp_path / "r.keel", Counting()
    start_recording(folder, [source])
    said: list[Status] = []
    asked: list[bool] = []

    def stopped() -> bool:
        if not asked:
            ask_control(folder, "lamp", "on")
            ask_control(folder, "horn", "on")
            asked.append(True)
        return bool(said and said[-1].refused)

    record(folder, [source], stopped, on_status=said.append)
    assert source.worked == {"lamp": "on"}
    assert said[-1].controls == {"lamp": "on"} and "horn" in said[-1].refused


# Records numbered lines from a pipe while no file may grow beyond a limit, as on a full disk.
LIMITED = """
import resource, sys
hard = resource.getrlimit(resource.RLIMIT_FSIZE)[1]
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv.pop(1)), hard))
from keel.cli import main
main()
"""


@pytest.mark.parametrize("limit", [30_000, 400_000, 1_100_000])
def test_every_frame_that_a_fast_pipe_hands_over_is_kept_or_counted(tmp_path: Path, limit: int) -> None:
    folder, total = tmp_path / "r.keel", 40_000
    lines = "".join(f"({1 + i / 1000:.6f}) bus{i % 2} {0x100 + i % 8:03X}#{i:08X}\n" for i in range(total))
    command = [sys.executable, "-c", LIMITED, str(limit), "record", "--from", "pipe", str(folder)]
    done = subprocess.run(command, check=False, input=lines + "junk\n", capture_output=True, text=True)
    snapshot = Recording(folder).snapshot()
    status = read_status(folder)
    assert status is not None
    assert snapshot.frames + snapshot.manifest.lost == status.frames + status.lost == total
    assert status.lost == snapshot.manifest.lost > 0 and status.skipped == 1
    payloads = snapshot.rows(0, snapshot.frames).data.reshape(-1, 4)
    numbers = [int.from_bytes(p.tobytes(), "big") for p in payloads]
    assert numbers == sorted(set(numbers))
    said = " ".join(snapshot.manifest.notes)
    assert f"{status.lost} frames are lost: cannot be written" in said and "skipped 1" in said
    if done.returncode == 0:
        assert f"{status.lost} lost" in done.stderr and "skipped 1" in done.stderr
    else:
        assert "its newest frames stay in the journal" in done.stderr


def test_where_there_is_room_for_nothing_the_losses_are_said_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, source = tmp_path / "r.keel", Counting()
    start_recording(folder, [source])

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr("keel.store.writer.Writer._write", full)
    monkeypatch.setattr("keel.sources.recorder.edit_manifest", full)
    with pytest.raises(RecordingError, match="12 frames are lost; 5 frames are lost: cannot be written"):
        recorded_for(folder, source, 5)
    status = read_status(folder)
    assert status is not None and (status.frames, status.lost) == (0, 12)


def test_room_is_left_on_a_disk_that_was_full(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = new_recording(tmp_path / "r.keel")
    writer, free = Writer(folder), {"bytes": 1 << 30}
    monkeypatch.setattr("keel.store.writer.free_bytes", lambda _: free["bytes"])
    one = batch([Row(START, 0x100, b"1")])
    writer.append(one)
    writer._full, free["bytes"] = True, KEPT_FREE
    with pytest.raises(RecordingError, match="the disk is full"):
        writer.append(one)
    free["bytes"] = 2 * KEPT_FREE
    writer.append(one)
    assert writer.taken == 2 and not writer._full
    writer.close()
    assert Recording(folder).snapshot().frames == 2


@pytest.mark.parametrize("content, why", [("", "without a byte"), ("nothing\n" * 3, "no format recognises")])
def test_a_pipe_that_fails_leaves_no_empty_recording(tmp_path: Path, content: str, why: str) -> None:
    command = [sys.executable, "-m", "keel", "record", "--from", "pipe", str(tmp_path / "r.keel")]
    done = subprocess.run(command, check=False, input=content, capture_output=True, text=True)
    assert done.returncode == 1 and why in done.stderr and "Traceback" not in done.stderr
    assert not (tmp_path / "r.keel").exists()


def test_a_pipe_whose_lines_are_no_frames_says_what_they_were(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "keel", "record", "--from", "pipe", str(tmp_path / "r.keel")]
    done = subprocess.run(command, check=False, input="(1.0) bus0 1A0#0G\n" * 3, capture_output=True, text=True)
    assert done.returncode == 1 and "skipped 3: payload is not whole bytes" in done.stderr
    assert not (tmp_path / "r.keel").exists()


def test_frames_of_other_buses_are_not_mixed_in(tmp_path: Path) -> None:
    folder, source = tmp_path / "r.keel", Counting()
    start_recording(folder, [source])
    assert recorded_for(folder, source, 3) == 3
    other = Counting()
    other.buses = [Bus("elsewhere")]
    with pytest.raises(RecordingError, match="has the buses a, b, but frames come from elsewhere"):
        recorded_for(folder, other, 2)
    assert Recording(folder).snapshot().frames == 3


def test_a_source_with_one_more_bus_adds_it(tmp_path: Path) -> None:
    folder, source = tmp_path / "r.keel", Counting()
    start_recording(folder, [source])
    recorded_for(folder, source, 3)
    more = Counting()
    more.buses = [Bus("new"), Bus("b")]
    assert recorded_for(folder, more, 2) == 2
    snapshot = Recording(folder).snapshot()
    assert snapshot.manifest.bus_names == ["a", "b", "new"]
    assert snapshot.rows(0, 5).bus.tolist() == [0, 0, 0, 2, 2]


def test_only_what_is_asked_after_the_start_counts_and_junk_is_passed_over(tmp_path: Path) -> None:
    ask_control(tmp_path, "lamp", "before")
    reader = ControlReader(tmp_path)
    assert reader.read_new() == []
    ask_control(tmp_path, "lamp", "on")
    with (tmp_path / "control.jsonl").open("ab") as file:
        file.write(b'not json\n{"set": 1}\n[]\n\xff\xfe\n{"set": "lamp", "to"')
    ask = reader.read_new()
    assert ask == [("lamp", "on")]
    with (tmp_path / "control.jsonl").open("ab") as file:
        file.write(b': "off"}\n')
    assert reader.read_new() == [("lamp", "off")]
    assert reader.read_new() == []


def test_the_status_is_read_as_it_was_written_or_not_at_all(tmp_path: Path) -> None:
    assert read_status(tmp_path) is None
    status = Status(12, 1.5, 100, 0, 0.25, {"lamp": "on"}, "")
    write_status(tmp_path, status)
    assert read_status(tmp_path) == status
    (tmp_path / "status.json").write_text(json.dumps({"strange": 1}))
    assert read_status(tmp_path) is None


@pytest.mark.parametrize("odd", ["text", None, [1], {"a": 1}, 1e300, True, "\x1b[31m"])
def test_what_a_status_cannot_say_is_not_believed(tmp_path: Path, odd: object) -> None:
    whole = Status(12, 1.5, 100, 3, 0.25, {"lamp": "on"}, "no", "full", 2)
    (tmp_path / "status.json").write_text(json.dumps(dict.fromkeys(asdict(whole), odd)))
    said = read_status(tmp_path)
    assert said is not None
    for name, default in asdict(Status()).items():
        value = getattr(said, name)
        assert value == default or type(value) in (type(default), type(odd)), name
        if isinstance(default, int | float):
            assert value + 1 > value or value > 1e9, name
    (tmp_path / "status.json").write_text(json.dumps([odd]))
    assert read_status(tmp_path) is None


def test_the_bench_keeps_the_pace_of_its_clock() -> None:
    now = {"s": 100.0}
    source = BenchSource(1, speed=3.0, clock=lambda: now["s"])
    assert len(source.poll()) == 0
    total = 0
    for _ in range(40):
        now["s"] += 0.05
        total += len(source.poll())
    # Two seconds by the clock, six of the ferry; the newest frames still wait for those before them.
    assert total == pytest.approx(6 * 758, rel=0.03)
    assert source.lost() == Lost() and source.state()["ramp"] == "stop"
    source.control("ramp", "down")
    assert source.state()["ramp"] == "down"
    source.close()


def test_an_unknown_source_is_refused() -> None:
    with pytest.raises(InputError, match="no such source; expected bench"):
        open_source("nothing")
