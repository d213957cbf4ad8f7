"""Several sources into one recording: one that fails, goes away, is too fast, or counts by another clock."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import pytest

from keel.errors import InputError
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, empty_batch
from keel.sources.feed import Feed
from keel.sources.flow import Flow
from keel.sources.recorder import Recorded, record, start_recording
from keel.sources.source import Lost, Source, SourceGone
from keel.store.control import Status, read_status
from keel.store.manifest import load_manifest
from keel.store.recording import Recording
from tests.making import START, Row, batch

PATIENCE_S = 20.0


class Scripted(Source):
    """A source that does one thing after another: gives frames, raises, or waits until it may go on."""

    def __init__(self, title: str, steps: Sequence[FrameBatch | Exception | None], bus: str = "") -> None:
        super().__init__()
        self.title, self.buses = title, [Bus(bus or title)]
        self.steps, self.closed, self.returns = list(steps), False, 0
        self.back = True

    def poll(self, wait_s: float = 0.0) -> FrameBatch:
        if not self.steps:
            self.ended = True
            return empty_batch()
        step = self.steps.pop(0)
        if isinstance(step, Exception):
            raise step
        if step is None:
            time.sleep(0.01)
            return empty_batch()
        return step

    def reopen(self) -> None:
        if not self.back:
            raise SourceGone(self.title, "still not there")
        self.returns += 1

    def close(self) -> None:
        self.closed = True


def one(number: int, time_ns: int = START) -> FrameBatch:
    return batch([Row(time_ns + number, 0x100 + number, bytes([number]))])


def recorded(folder: Path, *sources: Source, on_status: list[Status] | None = None) -> Recorded:
    start_recording(folder, sources)
    until = time.monotonic() + PATIENCE_S
    statuses = on_status if on_status is not None else []
    return record(folder, sources, lambda: time.monotonic() > until, on_status=statuses.append)


def test_frames_of_two_sources_stand_in_order_of_time_each_on_its_bus(tmp_path: Path) -> None:
    done = recorded(tmp_path / "r.keel", Scripted("x", [one(0), one(2)]), Scripted("y", [one(1), one(3)]))
    snapshot = Recording(tmp_path / "r.keel").snapshot()
    frames = snapshot.rows(0, 4)
    assert done.frames == 4 and snapshot.manifest.bus_names == ["x", "y"]
    assert sorted(zip(frames.bus.tolist(), frames.ident.tolist(), strict=True)) == [
        (0, 0x100), (0, 0x102), (1, 0x101), (1, 0x103)
    ]  # fmt: skip
    assert snapshot.manifest.source == "x, y"


def test_buses_of_one_name_are_two_buses(tmp_path: Path) -> None:
    recorded(tmp_path / "r.keel", Scripted("x", [one(0)], "can0"), Scripted("y", [one(1)], "can0"))
    assert Recording(tmp_path / "r.keel").snapshot().manifest.bus_names == ["can0", "can0 2"]


def test_one_source_that_fails_does_not_end_the_other(tmp_path: Path) -> None:
    failing = Scripted("bad", [one(0), InputError("bad", "broke")])
    unforeseen = Scripted("worse", [one(1), RuntimeError("nobody thought of it")])
    good = Scripted("good", [None] * 30 + [one(2)])
    said: list[Status] = []
    done = recorded(tmp_path / "r.keel", failing, unforeseen, good, on_status=said)
    snapshot = Recording(tmp_path / "r.keel").snapshot()
    assert done.frames == snapshot.frames == 3 and failing.closed and good.closed
    notes = " ".join(snapshot.manifest.notes)
    assert "bad: bad: broke" in notes and "worse: nobody thought of it" in notes
    assert any("bad ended" in status.trouble for status in said)


def test_a_source_that_goes_away_leaves_a_hole_and_goes_on(tmp_path: Path) -> None:
    source = Scripted("port", [one(0), SourceGone("port", "it was unplugged"), one(1)])
    said: list[Status] = []
    before = time.time_ns()
    done = recorded(tmp_path / "r.keel", source, on_status=said)
    manifest = load_manifest(tmp_path / "r.keel")
    (hole,) = manifest.holes
    assert done.frames == 2 and source.returns == 1
    assert (hole.buses, hole.why) == (("port",), "it was unplugged") and before < hole.start < hole.end
    assert any("port: nothing came for" in note and "it was unplugged" in note for note in manifest.notes)
    assert any(status.holes and status.holes[0]["end"] is None for status in said)
    assert any("port is gone: it was unplugged" in status.trouble for status in said)
    last = read_status(tmp_path / "r.keel")
    assert last is not None and last.holes[0]["end"] == hole.end and not last.trouble


def test_a_hole_that_is_still_open_at_the_end_ends_there(tmp_path: Path) -> None:
    gone, other = Scripted("port", [one(0), SourceGone("port", "pulled")]), Scripted("other", [None] * 60)
    gone.back = False
    start_recording(tmp_path / "r.keel", [gone, other])
    done = record(tmp_path / "r.keel", [gone, other], lambda: other.ended)
    (hole,) = load_manifest(tmp_path / "r.keel").holes
    assert hole.why == "pulled" and hole.end > hole.start and done.frames == 1
    # An older Keel keeps what it does not know; this one reads it back.
    assert load_manifest(tmp_path / "r.keel").to_json()["holes"][0]["buses"] == ("port",)


def test_what_does_not_fit_into_the_buffer_is_lost_and_counted() -> None:
    feed = Feed(Scripted("fast", [one(i) for i in range(9)]), most_frames=4)
    feed.start()
    feed._thread.join(PATIENCE_S)
    assert sum(map(len, feed.take())) == 4 and feed.read == 9
    assert feed.lost == Lost(reader=5) and feed.lost.words == "5 in Keel's buffer"


def test_what_can_wait_waits_for_room() -> None:
    source = Scripted("pipe", [one(i) for i in range(9)])
    source.can_wait = True
    feed = Feed(source, most_frames=4)
    feed.start()
    found = 0
    until = time.monotonic() + PATIENCE_S
    while (feed.running or feed.fill) and time.monotonic() < until:
        found += sum(map(len, feed.take()))
    assert found == 9 and feed.lost == Lost()


def test_dates_and_none_do_not_go_into_one_recording(tmp_path: Path) -> None:
    dated, undated = Scripted("dated", [one(0)]), Scripted("undated", [None] * 30 + [one(1, 5_000), one(2, 6_000)])
    done = recorded(tmp_path / "r.keel", dated, undated)
    manifest = load_manifest(tmp_path / "r.keel")
    assert done.frames == 1 and done.lost == Lost(source=2) and manifest.is_dated and manifest.lost == 2
    assert any("undated: its frames were not kept" in note for note in manifest.notes)


def test_a_recording_of_an_undated_source_has_its_own_zero(tmp_path: Path) -> None:
    recorded(tmp_path / "r.keel", Scripted("undated", [one(1, 5_000)]))
    assert not load_manifest(tmp_path / "r.keel").is_dated


def test_when_the_clock_is_set_that_is_counted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    flow, real, shift = Flow(tmp_path, []), time.time_ns, {"ns": 0}
    monkeypatch.setattr("keel.sources.flow.time.time_ns", lambda: real() + shift["ns"])
    for by in (0, 0, 1_500_000_000, 0, -4_000_000_000, 10_000_000):
        shift["ns"] += by
        flow.look(0, 0)
    assert len(flow.steps) == 2
    assert "the clock was set 2 times, by -2.5" in flow.said(Lost())[0]


def test_rates_and_how_long_the_disk_lasts_follow_from_what_is_written(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = {"s": 100.0}
    monkeypatch.setattr("keel.sources.flow.time.monotonic", lambda: now["s"])
    monkeypatch.setattr("keel.sources.flow.free_bytes", lambda _: 60_000_000)
    feed = Feed(Scripted("x", []))
    flow = Flow(tmp_path, [feed])
    for turn in range(40):
        now["s"] += 0.1
        feed._read = turn * 100
        flow.look(turn * 90, turn * 90 * 50)
    assert flow.in_hz == pytest.approx(1000, rel=0.01)
    assert flow.disk_hz == pytest.approx(900, rel=0.01)
    assert flow.disk_left_s == pytest.approx(60_000_000 / 45_000, rel=0.01)


def test_losses_are_said_by_place(tmp_path: Path) -> None:
    source = Scripted("x", [one(0)])
    source.lost = lambda: Lost(kernel=3, source=2)  # type: ignore[method-assign]
    done = recorded(tmp_path / "r.keel", source)
    status = read_status(tmp_path / "r.keel")
    assert done.lost.total == 5 and status is not None
    assert (status.lost, status.lost_at) == (5, {"kernel": 3, "reader": 0, "disk": 0, "source": 2})
    assert "5 frames are lost: 3 in the kernel's buffer, 2 before they came here" in " ".join(done.sentences)


def test_the_only_source_that_fails_at_once_is_an_error(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="broke"):
        recorded(tmp_path / "r.keel", Scripted("bad", [InputError("bad", "broke")]))
