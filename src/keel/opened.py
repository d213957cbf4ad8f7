"""Recordings for scripts: frames that meet an ask as Arrow or NumPy, a batch at a time or all at once."""

from __future__ import annotations

from collections.abc import Iterator
from math import isinf, isnan
from os import PathLike
from pathlib import Path
from typing import Any

import numpy.typing as npt

from keel.ask.fetch import frames_at
from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.names import scene_of
from keel.errors import InputError
from keel.measure.report import traffic
from keel.model.frames import COLUMNS, FrameBatch, Rows
from keel.model.span import Span
from keel.model.units import NS_PER_S
from keel.store.library import find_recording
from keel.store.recording import Recording, Snapshot

BATCH_ROWS = 1 << 16
FARTHEST_S = 1e9


class Opened:
    """A recording, opened for reading. `refresh` takes in what a recorder has added since."""

    def __init__(self, path: str | PathLike[str]) -> None:
        self._recording = Recording(find_recording(Path(path)))
        self._snapshot = self._recording.snapshot()

    def __len__(self) -> int:
        return self._snapshot.frames

    @property
    def snapshot(self) -> Snapshot:
        """The recording as it stood when it was opened or last refreshed."""
        return self._snapshot

    @property
    def start(self) -> int:
        """When the first frame was, in ns since 1970, or since `zero` if it has no date."""
        return self._snapshot.span.start

    @property
    def zero(self) -> int:
        """When time is 0: at the first frame; in a recording without a date, where its own clock begins."""
        return self._snapshot.zero

    @property
    def problems(self) -> tuple[str, ...]:
        """What is missing or damaged, in sentences."""
        return self._snapshot.problems

    def refresh(self) -> bool:
        """Take in what was added since; returns whether anything was."""
        changed = self._recording.refresh()
        self._snapshot = self._recording.snapshot()
        return changed

    def frames(self, ask: str | None = "", start: float | None = None, end: float | None = None) -> Frames:
        """The frames that meet an ask.

        Args:
            ask: As in the app: ``"id:1A0 fault"``; empty or None for all.
            start, end: Only frames from then on, and before then; seconds from `zero`.

        Raises:
            AskError: the ask does not parse.
            InputError: ``start`` or ``end`` is no number.
        """
        ask = ask or ""
        scene = scene_of(self._snapshot)
        lens = None
        if start is not None or end is not None:
            whole = self._snapshot.span
            low = whole.start if start is None else _moment(whole, self.zero, start, "start")
            high = whole.end if end is None else _moment(whole, self.zero, end, "end")
            lens = Span(low, max(high, low))
        return Frames(Matcher(parse(ask, scene), scene).run(self._snapshot, lens))

    def stats(self, ask: str | None = "") -> dict[str, Any]:
        """Traffic by bus and identifier, as ``keel stats --json`` gives it."""
        return traffic(self.frames(ask).matches, self.zero)


def _moment(whole: Span, zero: int, seconds: float, name: str) -> int:
    """A time in ns; what lies beyond all times is as far as times go."""
    if isnan(seconds):
        raise InputError(name, "nan is no time", "seconds from the recording's start")
    if isinf(seconds) or abs(seconds) > FARTHEST_S:
        return whole.start if seconds < 0 else whole.end
    return zero + round(seconds * NS_PER_S)


class Frames:
    """Frames in order of arrival. Nothing is read until it is asked for."""

    def __init__(self, matches: Matches) -> None:
        self.matches = matches

    def __len__(self) -> int:
        return len(self.matches)

    @property
    def numbers(self) -> Rows:
        """Their numbers in the recording, counted from 0, shape (n,)."""
        return self.matches.numbers(0, len(self.matches))

    def batches(self, rows: int = BATCH_ROWS) -> Iterator[FrameBatch]:
        """The frames as columns, so many at a time.

        Raises:
            InputError: ``rows`` is no such number.
        """
        if rows < 1:
            raise InputError("rows", str(rows), "a number of frames from 1 on")
        for at in range(0, len(self), rows):
            yield frames_at(self.matches, at, at + rows)

    def to_numpy(self) -> dict[str, npt.NDArray[Any]]:
        """All frames as arrays by column: time in ns since 1970, bus by index, and so on.

        The payload of frame i is ``data[offsets[i]:offsets[i + 1]]``.
        """
        from keel.model.frames import concat

        whole = concat(list(self.batches()))
        return {name: getattr(whole, name) for name in (*COLUMNS, "offsets", "data")} | whole.extras()

    def to_arrow(self) -> Any:
        """All frames as a `pyarrow.Table`."""
        import pyarrow as pa

        return pa.Table.from_batches(list(self._records()), self.schema)

    @property
    def schema(self) -> Any:
        """The columns of `to_arrow`, a `pyarrow.Schema`."""
        from keel.formats.arrow import schema_of

        return schema_of(self.matches.snapshot.manifest.buses)

    def _records(self) -> Iterator[Any]:
        from keel.formats.arrow import record_of

        for batch in self.batches():
            yield record_of(batch, self.matches.snapshot.manifest.buses)

    def __arrow_c_stream__(self, requested_schema: object = None) -> Any:
        """What lets any Arrow library take these frames as they are."""
        import pyarrow as pa

        return pa.RecordBatchReader.from_batches(self.schema, self._records()).__arrow_c_stream__(requested_schema)
