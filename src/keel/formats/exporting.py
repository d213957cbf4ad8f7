"""Frames out into the forms the trade exchanges. To add one, write its writer and name it here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol, TextIO

import numpy as np

from keel.errors import InputError
from keel.formats.rows import csv_text, json_lines
from keel.formats.textlog import format_lines
from keel.model.frames import FrameBatch, empty_batch


class FrameWriter(Protocol):
    """Writes frames to a file, in order."""

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames; ``numbers`` are theirs in the recording, from 0."""

    def close(self) -> None:
        """Finish the file."""


@dataclass(frozen=True)
class Setting:
    """What writers may want to know of the recording."""

    bus_names: list[str]
    start: int
    names: dict[int, str]
    notes: list[str]
    comments: dict[int, str]


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
        self.file.writelines(line + "\n" for line in json_lines(batch, self.setting.bus_names))


class CsvWriter(_Lines):
    """CSV with a header."""

    def __init__(self, path: Path, setting: Setting) -> None:
        super().__init__(path, setting)
        self.write(empty_batch(), np.zeros(0, np.int64), header=True)

    def write(self, batch: FrameBatch, numbers: Any, header: bool = False) -> None:
        """Add frames."""
        s = self.setting
        self.file.write(csv_text(batch, s.bus_names, s.start, s.names, (numbers + 1).tolist(), header))


class LogWriter(_Lines):
    """Bracketed text. It has no form for faulty frames: those are left out and counted.

    Attributes:
        left_out: How many.
    """

    left_out = 0

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames."""
        lines = list(format_lines(batch, self.setting.bus_names))
        self.left_out += len(batch) - len(lines)
        self.file.writelines(line + "\n" for line in lines)


class ParquetWriter:
    """Parquet with zstd, in order of arrival."""

    def __init__(self, path: Path, setting: Setting) -> None:
        import pyarrow.parquet as pq

        from keel.formats.arrow import schema_of

        self._names = setting.bus_names
        self._writer = pq.ParquetWriter(path, schema_of(), compression="zstd", use_dictionary=["bus", "form", "ident"])

    def write(self, batch: FrameBatch, numbers: Any) -> None:
        """Add frames."""
        from keel.formats.arrow import record_of

        self._writer.write_batch(record_of(batch, self._names))

    def close(self) -> None:
        """Finish the file."""
        self._writer.close()


def _pcapng(path: Path, setting: Setting) -> FrameWriter:
    from keel.formats.pcapng_out import PcapngWriter

    return PcapngWriter(path, setting.bus_names, setting.notes, setting.comments)


WRITERS: dict[str, tuple[tuple[str, ...], Callable[[Path, Setting], FrameWriter]]] = {
    "pcapng": ((".pcapng",), _pcapng),
    "log": ((".log", ".txt"), LogWriter),
    "csv": ((".csv",), CsvWriter),
    "json": ((".jsonl", ".json", ".ndjson"), JsonWriter),
    "parquet": ((".parquet",), ParquetWriter),
}
"""Writers by name, with the endings of files that mean them."""


def writer_name(path: Path, name: str | None = None) -> str:
    """Which writer is meant: the one named, or by the file's ending.

    Raises:
        InputError: there is none.
    """
    if name is not None:
        if name not in WRITERS:
            raise InputError(f"--as {name}", "no such form", ", ".join(WRITERS))
        return name
    for known, (endings, _) in WRITERS.items():
        if path.suffix.lower() in endings:
            return known
    endings = tuple(e for es, _ in WRITERS.values() for e in es)
    raise InputError(str(path), "its ending names no form", f"one of {' '.join(endings)}, or --as")


def open_writer(path: Path, name: str, setting: Setting) -> FrameWriter:
    """Begin a file."""
    return WRITERS[name][1](path, setting)
