"""What lies beside recordings: dictionaries, and captures that could be imported."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

MOST_FILES = 40
CAPTURES = (".log", ".pcap", ".pcapng", ".csv", ".tsv", ".txt", ".jsonl", ".ndjson", ".json", ".arrow", ".parquet",
            ".vcd", ".wav")  # fmt: skip


@dataclass(frozen=True)
class Beside:
    """Files of a folder: dictionaries, and captures with the name of their format."""

    dictionaries: tuple[Path, ...] = ()
    captures: tuple[tuple[Path, str], ...] = ()


def look_beside(folder: Path) -> Beside:
    """What a folder holds; captures are told by their content."""
    from keel.app.dialogs.dictionaries import files_here
    from keel.errors import InputError, UnknownFormat
    from keel.formats.registry import recognise
    from keel.formats.waveforms import kind_of

    if not folder.is_dir():
        return Beside()
    captures: list[tuple[Path, str]] = []
    for path in sorted(folder.iterdir())[: MOST_FILES * 10]:
        if path.suffix.lower() in CAPTURES and path.is_file() and len(captures) < MOST_FILES:
            try:
                captures.append((path, recognise(path)[0].name))
            except UnknownFormat:
                with suppress(InputError):
                    captures.append((path, kind_of(path)))
            except InputError:
                continue
    return Beside(tuple(files_here(folder)), tuple(captures))
