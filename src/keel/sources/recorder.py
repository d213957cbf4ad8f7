"""The recorder: takes frames from sources and adds them to a recording until it is told to stop.

A pipeline of plain steps: each source is read on a thread of its own (`feed`), what came is laid onto the recording's
buses and clock (`joining`), written, and what became of it is said (`flow`).
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from keel.errors import RecordingError
from keel.model.frames import FrameBatch, empty_batch
from keel.model.safe_text import plain
from keel.signals.dictionary import Dictionary
from keel.sources.feed import Feed
from keel.sources.flow import Flow
from keel.sources.joining import Joined
from keel.sources.source import Lost, Source
from keel.store.control import ControlReader, Status, write_status
from keel.store.manifest import Manifest, edit_manifest
from keel.store.writer import Writer, create_recording

POLL_S = 0.05
STATUS_EVERY_S = 0.2


def start_recording(folder: Path, sources: Sequence[Source]) -> None:
    """Make the recording that `record` will add to."""
    manifest = Manifest(folder.stem, ", ".join(source.title for source in sources), time.time_ns())
    manifest.notes = [remark for source in sources for remark in source.remarks]
    manifest.dictionary = next((s.dictionary for s in sources if s.dictionary.messages), Dictionary())
    create_recording(folder, manifest)


@dataclass(frozen=True)
class Recorded:
    """What came of it: frames added, lost and skipped, what a person should know, and what ended a source."""

    frames: int
    lost: Lost
    skipped: int
    sentences: tuple[str, ...]
    failures: tuple[Exception, ...] = ()


def record(
    folder: Path,
    sources: Sequence[Source],
    stopped: Callable[[], bool],
    seconds: float | None = None,
    on_status: Callable[[Status], None] = lambda _: None,
) -> Recorded:
    """Record until ``stopped`` says so, for so many seconds, or until all sources have ended.

    Every frame that a source hands over is in the recording or counted as lost, also on a full disk.

    Raises:
        RecordingBusy: another recorder has the recording.
        RecordingError: it is of other buses.
        KeelError: the only source failed, and nothing came of it.
    """
    return _Recording(folder, sources, on_status).run(stopped, seconds)


def _check_buses(folder: Path, writer: Writer, sources: Sequence[Source]) -> None:
    """Nobody means to add to a recording that knows none of the buses.

    Raises:
        RecordingError: it has buses, and none of those that are known of the sources.
    """
    has, come = ([plain(bus.name) for bus in buses] for buses in (writer.buses, [b for s in sources for b in s.buses]))
    if has and come and not set(has) & set(come):
        raise RecordingError(str(folder), f"has the buses {', '.join(has)}, but frames come from {', '.join(come)}")


class _Recording:
    """A recording while it is made."""

    def __init__(self, folder: Path, sources: Sequence[Source], on_status: Callable[[Status], None]) -> None:
        self._folder, self._on_status = folder, on_status
        self._writer = Writer(folder)
        try:
            _check_buses(folder, self._writer, sources)
        except RecordingError:
            self._writer.close()
            raise
        self._feeds = [Feed(source) for source in sources]
        self._joined = Joined(folder, self._writer, self._feeds)
        self._controls = ControlReader(folder)
        self._flow = Flow(folder, self._feeds)
        self._dropped = 0
        self._why = self._refused = self._trouble = ""
        self._looked = time.monotonic()
        self._next_status = self._looked

    def run(self, stopped: Callable[[], bool], seconds: float | None) -> Recorded:
        begin = time.monotonic()
        self._take(empty_batch())
        for feed in self._feeds:
            feed.start()
        try:
            while any(feed.running for feed in self._feeds):
                if stopped() or (seconds is not None and time.monotonic() - begin >= seconds):
                    break
                self._turn()
        finally:
            self._end()
        return self._outcome()

    def _turn(self) -> None:
        """One turn of the pipeline."""
        took = time.monotonic()
        self._ask()
        self._take(self._joined.take())
        now = time.monotonic()
        self._flow.look(self._writer.taken, self._writer.written)
        if now >= self._next_status:
            self._next_status = now + STATUS_EVERY_S
            self._say(max(now - self._looked - POLL_S, 0.0))
        self._looked = now
        time.sleep(max(POLL_S - (now - took), 0.001))

    def _ask(self) -> None:
        """Hand on what people asked of controls to the source that has one of that name."""
        for name, value in self._controls.read_new():
            having = [feed for feed in self._feeds if name in feed.source.state()] or self._feeds[:1]
            having[0].ask(name, value, self._answered)

    def _answered(self, refused: str) -> None:
        self._refused, self._next_status = refused, 0.0

    def _take(self, batch: FrameBatch) -> None:
        """Add frames; what cannot be added is counted, to the frame."""
        before = self._writer.taken
        try:
            self._joined.name_buses()
            self._writer.append(batch)
            self._trouble = self._writer.trouble
        except OSError as error:
            # The disk may have room again later; until then what comes is lost, and counted.
            self._dropped += len(batch) - (self._writer.taken - before)
            self._why = error.what if isinstance(error, RecordingError) else f"cannot be written ({error.strerror})"
            self._trouble = f"{self._why}: frames are being lost"

    def _lost(self) -> Lost:
        return sum((feed.lost for feed in self._feeds), self._joined.refused + Lost(disk=self._dropped))

    def _say(self, behind_s: float = 0.0) -> None:
        lost, flow = self._lost(), self._flow
        away = [f"{feed.source.title} is gone: {feed.away}" for feed in self._feeds if feed.away]
        failed = [f"{feed.source.title} ended: {feed.failure}" for feed in self._feeds if feed.failure is not None]
        status = Status(
            os.getpid(), time.time(), self._writer.taken, lost.total, behind_s,
            {name: value for feed in self._feeds for name, value in feed.source.state().items()},
            self._refused, "; ".join([self._trouble] * bool(self._trouble) + away + failed),
            sum(feed.source.skipped() for feed in self._feeds),
            lost_at=lost.each, buffer=flow.buffer, in_hz=flow.in_hz, disk_hz=flow.disk_hz, clock_steps=len(flow.steps),
            holes=flow.holes(), disk_left_s=flow.disk_left_s, panel=flow.panel,
        )  # fmt: skip
        with suppress(OSError):
            write_status(self._folder, status)
        self._on_status(status)

    def _end(self) -> None:
        """Let go of the sources, write what is left, and say in the manifest what was lost and when nothing came."""
        for feed in self._feeds:
            feed.stop()
        self._take(self._joined.take())
        lost, sentences = self._lost(), self._sentences()
        try:
            self._writer.close()
        finally:
            # First what others read of a recorder that ended badly; the manifest may find no room.
            self._flow.look(self._writer.taken, self._writer.written)
            self._say()
            holes = self._flow.holes(closed=True)
            if lost.total or sentences or holes:
                self._write_down(lost, sentences)

    def _sentences(self) -> list[str]:
        said = [sentence for feed in self._feeds for sentence in feed.source.said()]
        if len(self._feeds) > 1:
            said += [f"{feed.source.title}: {feed.failure}" for feed in self._feeds if feed.failure is not None]
        if self._dropped:
            said.append(f"{self._dropped} frames are lost: {self._why}")
        return [*said, *self._joined.said, *self._flow.said(self._lost())]

    def _write_down(self, lost: Lost, sentences: list[str]) -> None:
        """Say in the manifest what was lost.

        Raises:
            RecordingError: there is no room even for that; says what was to be said.
        """
        try:
            with edit_manifest(self._folder) as manifest:
                manifest.lost += lost.total
                manifest.notes += sentences
                manifest.holes += self._flow.manifest_holes()
        except OSError as error:
            said = "; ".join(sentences)
            what = f"cannot say ({error.strerror}): {lost.total} frames are lost; {said}"
            raise RecordingError(str(self._folder), what) from None

    def _outcome(self) -> Recorded:
        failures = tuple(feed.failure for feed in self._feeds if feed.failure is not None)
        lost, taken = self._lost(), self._writer.taken
        if len(failures) == len(self._feeds) and not taken and not lost.total:
            raise failures[0]
        skipped = sum(feed.source.skipped() for feed in self._feeds)
        return Recorded(taken, lost, skipped, tuple(self._sentences()), failures)
