"""Frames out into the forms the trade exchanges. To add one, write its writer and name it here."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol, TextIO

import numpy as np

from keel.errors import InputError
from keel.formats import frame_lines, textlog
from keel.formats.frame_lines import csv_text, json_lines
from keel.formats.textlog import format_lines
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, Mask, empty_batch


class FrameWriter(Protocol):
    """Writes frames to a file, in order."""

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames; ``numbers`` are theirs in the recording, from 0."""

    def close(self) -> None:
        """Finish the file."""


Unsaid = Callable[[FrameBatch], tuple[dict[str, Mask], dict[str, Mask]]]
"""By reason the frames that a form leaves out, and those that lose something in it."""


class Losses:
    """What a form could not say of the frames written."""

    def __init__(self) -> None:
        self.left_out = 0
        self._out: dict[str, int] = {}
        self._less: dict[str, int] = {}

    def add(self, out: dict[str, Mask], less: dict[str, Mask]) -> None:
        """Count some frames."""
        counted = np.zeros(len(next(iter(out.values()))), np.bool_) if out else None
        for reason, mask in out.items():
            new = mask & ~counted if counted is not None else mask
            self._out[reason] = self._out.get(reason, 0) + int(np.count_nonzero(new))
            counted = mask if counted is None else counted | mask
        self.left_out += int(np.count_nonzero(counted)) if counted is not None else 0
        for reason, mask in less.items():
            self._less[reason] = self._less.get(reason, 0) + int(np.count_nonzero(mask))

    def sentences(self) -> list[str]:
        """What a person should know."""
        said = [f"{count} left out: {reason} have no form there" for reason, count in self._out.items() if count]
        return said + [f"{count} written without saying {reason}" for reason, count in self._less.items() if count]


@dataclass(frozen=True)
class Setting:
    """What writers may want to know of the recording."""

    buses: Sequence[Bus]
    start: int
    names: dict[int, str]
    notes: list[str]
    comments: dict[int, str]

    @property
    def bus_names(self) -> list[str]:
        """The names of the buses."""
        return [bus.name for bus in self.buses]


class _Lines:
    """What text writers have in common."""

    def __init__(self, path: Path, setting: Setting) -> None:
        self.setting = setting
        self.file: TextIO = path.open("w", encoding="utf-8", newline="")

    def close(self) -> None:
        """Finish the file."""
        self.file.close()


class JsonWriter(_Lines):
    """JSON lines."""

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames."""
        self.file.writelines(line + "\n" for line in json_lines(batch, self.setting.buses, numbers.tolist()))


class CsvWriter(_Lines):
    """CSV with a header."""

    def __init__(self, path: Path, setting: Setting) -> None:
        super().__init__(path, setting)
        self.write(empty_batch(), np.zeros(0, np.int64), header=True)

    def write(self, batch: FrameBatch, numbers: Any, header: bool = False) -> None:
        """Add frames."""
        s = self.setting
        self.file.write(csv_text(batch, s.buses, s.start, s.names, (numbers + 1).tolist(), header))


class LogWriter(_Lines):
    """Bracketed text."""

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames."""
        self.file.writelines(line + "\n" for line in format_lines(batch, self.setting.bus_names))


class ParquetWriter:
    """Parquet with zstd, in order of arrival."""

    def __init__(self, path: Path, setting: Setting) -> None:
        import pyarrow.parquet as pq

        from keel.formats.arrow import schema_of

        self._buses = setting.buses
        self._writer = pq.ParquetWriter(
            path, schema_of(setting.buses), compression="zstd", use_dictionary=["bus", "form", "ident"]
        )

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames."""
        from keel.formats.arrow import record_of

        self._writer.write_batch(record_of(batch, self._buses))

    def close(self) -> None:
        """Finish the file."""
        self._writer.close()


def _pcapng(path: Path, setting: Setting) -> FrameWriter:
    from keel.formats.pcapng_out import PcapngWriter

    return PcapngWriter(path, setting.buses, setting.notes, setting.comments)


def _everything_said(batch: FrameBatch) -> tuple[dict[str, Mask], dict[str, Mask]]:
    return {}, {}


@dataclass(frozen=True)
class WriterForm:
    """A form that frames can be written in: the endings that mean it, its writer, and what it cannot say."""

    endings: tuple[str, ...]
    open: Callable[[Path, Setting], FrameWriter]
    unsaid: Unsaid = _everything_said


WRITERS: dict[str, WriterForm] = {
    "pcapng": WriterForm((".pcapng",), _pcapng),
    "log": WriterForm((".log", ".txt"), LogWriter, textlog.unsaid),
    "csv": WriterForm((".csv",), CsvWriter, frame_lines.unsaid),
    "json": WriterForm((".jsonl", ".json", ".ndjson"), JsonWriter, frame_lines.unsaid),
    "parquet": WriterForm((".parquet",), ParquetWriter),
}
"""Forms by name."""


def writer_name(path: Path, name: str | None = None) -> str:
    """Which writer is meant: the one named, or by the file's ending.

    Raises:
        InputError: there is none.
    """
    if name is not None:
        if name not in WRITERS:
            raise InputError(f"--as {name}", "no such form", ", ".join(WRITERS))
        return name
    for known, writer in WRITERS.items():
        if path.suffix.lower() in writer.endings:
            return known
    endings = tuple(e for writer in WRITERS.values() for e in writer.endings)
    raise InputError(str(path), "its ending names no form", f"one of {' '.join(endings)}, or --as")


class _Counting:
    """A writer that counts what its form cannot say."""

    def __init__(self, writer: FrameWriter, unsaid: Unsaid) -> None:
        self.losses = Losses()
        self._writer, self._unsaid = writer, unsaid

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames."""
        self.losses.add(*self._unsaid(batch))
        self._writer.write(batch, numbers)

    def close(self) -> None:
        """Finish the file."""
        self._writer.close()


def open_writer(path: Path, name: str, setting: Setting) -> _Counting:
    """Begin a file; what its form cannot say of the frames written is counted in ``losses``."""
    return _Counting(WRITERS[name].open(path, setting), WRITERS[name].unsaid)
