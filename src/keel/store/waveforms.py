"""Waveforms beside the segments: one Arrow IPC file each, with one record batch in it, mapped when it is read.

Logic is a column of ``time`` in ns, one row an edge; spans of unknown level lie in a file of their own. Volts are a
column ``sample``, with a second file of ``least`` and ``most`` of blocks, the finest blocks first, for drawing.
All numbers a reader needs besides stand in the manifest.
"""

from __future__ import annotations

import hashlib
import json
import os
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import RecordingError
from keel.model.extensible import from_plain, to_plain
from keel.model.outline import BLOCK, COARSER, Bounds, bounds_of
from keel.model.safe_text import plain
from keel.model.waveform import Analog, Channel, Logic
from keel.store.edge import at_the_edge
from keel.store.index import BLOCK_BYTES, checksums_of
from keel.store.waveform_entries import WaveformEntry

FOLDER = "waveforms"
METADATA = "keel.waveform"
READ_BLOCKS = 64


def waveform_path(folder: Path, number: int, part: str = "") -> Path:
    """Where a waveform lies, or a part of it: ``bounds`` or ``unknown``."""
    return folder / FOLDER / (f"{number:06d}.{part}.arrow" if part else f"{number:06d}.arrow")


@dataclass(frozen=True, eq=False)
class StoredWaveform:
    """A waveform of a recording, mapped when it is looked at."""

    folder: Path
    entry: WaveformEntry

    @cached_property
    def wave(self) -> Logic | Analog:
        """What was recorded.

        Raises:
            RecordingError: its file is gone, or is not what was written.
        """
        entry = self.entry
        if entry.kind == "analog":
            (samples,) = self._columns("", ("sample",))
            self._check(len(samples))
            return Analog(entry.start, entry.step, samples, entry.scale, self._unknown())
        (edges,) = self._columns("", ("time",))
        self._check(len(edges))
        return Logic(entry.start, entry.end, entry.first, edges, self._unknown())

    def _unknown(self) -> tuple[tuple[int, int], ...]:
        """The spans in which its level is not known."""
        if not self.entry.unknown:
            return ()
        begins, ends = self._columns("unknown", ("begin", "end"))
        return tuple(zip(begins.tolist(), ends.tolist(), strict=True))

    @cached_property
    def bounds(self) -> Bounds | None:
        """Least and most of its blocks, for drawing; None of logic."""
        if self.entry.kind != "analog" or self.entry.points <= BLOCK:
            return None
        least, most = self._columns("bounds", ("least", "most"))
        levels, at = [], 0
        left, size = self.entry.points, BLOCK
        while left > size and at < len(least):
            left, size = -(-left // size), COARSER
            levels.append((least[at : at + left], most[at : at + left]))
            at += left
        return Bounds(tuple(levels))

    def _check(self, points: int) -> None:
        if points != self.entry.points:
            where = str(waveform_path(self.folder, self.entry.number))
            raise RecordingError(where, f"has {points} points, should have {self.entry.points}")

    def _columns(self, part: str, names: tuple[str, ...]) -> list[Any]:
        import pyarrow as pa

        path = waveform_path(self.folder, self.entry.number, part)
        try:
            record = pa.ipc.open_file(pa.memory_map(str(path))).get_batch(0)
            return [record.column(name).to_numpy() for name in names]
        except (OSError, KeyError, pa.ArrowException) as error:
            raise RecordingError(str(path), f"cannot be read ({error})") from None


def write_waveform(folder: Path, number: int, channel: Channel, kind: str = "", source: str = "") -> WaveformEntry:
    """Write a channel's waveform; a reader finds it once the manifest lists what is returned.

    Raises:
        RecordingError: there is no room, or the folder cannot be written.
    """
    wave = channel.wave
    entry = _entry(number, channel, kind, source)
    path = waveform_path(folder, number)
    with at_the_edge(folder, "be written"):
        (folder / FOLDER).mkdir(exist_ok=True)
        if isinstance(wave, Analog):
            _write(path, entry, sample=np.ascontiguousarray(wave.samples))
            finer = bounds_of(wave.samples).finer
            if finer:
                least, most = (np.concatenate([pair[side] for pair in finer]) for side in (0, 1))
                _write(waveform_path(folder, number, "bounds"), entry, least=least, most=most)
        else:
            _write(path, entry, time=np.ascontiguousarray(wave.edges))
        if wave.unknown:
            spans = np.array(wave.unknown, np.int64)
            _write(waveform_path(folder, number, "unknown"), entry, begin=spans[:, 0], end=spans[:, 1])
        return replace(entry, bytes=path.stat().st_size, digest=digest_of(path))


def _entry(number: int, channel: Channel, kind: str, source: str) -> WaveformEntry:
    wave = channel.wave
    said: dict[str, Any] = {
        "others": tuple(plain(name) for name in channel.others),
        "notes": channel.notes,
        "source": plain(source),
    }
    name = plain(channel.name)
    if isinstance(wave, Analog):
        scale = float(wave.scale)
        return WaveformEntry(
            number, name, "analog", wave.start, wave.end, len(wave), step=wave.step, scale=scale,
            unknown=len(wave.unknown), **said,
        )  # fmt: skip
    unknown = len(wave.unknown)
    which: Any = kind or "logic"
    return WaveformEntry(
        number, name, which, wave.start, wave.end, len(wave.edges), first=wave.first, unknown=unknown, **said
    )


def _write(path: Path, entry: WaveformEntry, **columns: Any) -> None:
    import pyarrow as pa

    record = pa.record_batch([pa.array(column) for column in columns.values()], names=list(columns))
    # What the manifest says as well: so that a file can be read on its own, and the manifest be made anew.
    record = record.replace_schema_metadata({METADATA: json.dumps(to_plain(entry))})
    draft = path.with_suffix(".draft")
    try:
        with draft.open("wb") as file:
            with pa.ipc.new_file(file, record.schema) as writer:
                writer.write_batch(record)
            file.flush()
            os.fsync(file.fileno())
        draft.replace(path)
    except OSError:
        draft.unlink(missing_ok=True)
        raise


def digest_of(path: Path) -> str:
    """The checksum of a file: that of the checksums of its blocks, in hex."""
    whole = hashlib.blake2b(digest_size=16)
    with path.open("rb") as file:
        while piece := file.read(READ_BLOCKS * BLOCK_BYTES):
            whole.update(checksums_of(piece).tobytes())
    return whole.hexdigest()


def check_waveform(folder: Path, entry: WaveformEntry) -> str | None:
    """What is wrong with a waveform's file, if anything is."""
    if entry.kind == "made":
        return None
    path = waveform_path(folder, entry.number)
    try:
        size = path.stat().st_size
        if size != entry.bytes:
            return f"has {size} bytes, should have {entry.bytes}"
        return None if digest_of(path) == entry.digest else "has a wrong checksum"
    except OSError as error:
        return f"cannot be read ({error.strerror})"


def entries_found(folder: Path) -> list[WaveformEntry]:
    """The waveforms that lie in a recording, as their files themselves say; for when the manifest is lost."""
    import pyarrow as pa

    found = []
    for path in sorted((folder / FOLDER).glob("[0-9]*[0-9].arrow")):
        try:
            with pa.OSFile(str(path)) as file:
                said = (pa.ipc.open_file(file).schema.metadata or {})[METADATA.encode()]
            entry = from_plain(json.loads(said), WaveformEntry)
            found.append(replace(entry, bytes=path.stat().st_size, digest=digest_of(path)))
        except (OSError, KeyError, TypeError, ValueError, pa.ArrowException):
            continue
    return found
