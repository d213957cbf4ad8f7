"""The manifest: one JSON file that says what a recording is."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from keel.errors import NotARecording, RecordingError
from keel.model.bus import Bus
from keel.model.extensible import E, Extensible, from_plain, to_plain
from keel.model.safe_text import plain
from keel.model.span import Mark
from keel.signals.dictionary import Dictionary
from keel.signals.stored import messages_from_json, messages_to_json
from keel.store.edge import at_the_edge
from keel.store.locks import alone
from keel.store.waveform_entries import LineEntry, Replaced, WaveformEntry

SCHEMA = 3
"""What frames are written as; whoever adds some to an older recording makes it one of this schema."""
READABLE = (2, SCHEMA)
"""The schemas that are read, and kept by all who only edit."""
FILE = "recording.json"
DATED = "UTC, nanoseconds since 1970"
UNDATED = "its own, nanoseconds from its zero"
"""The clocks there are. What has no date counts from a zero of its own, and may lie before it."""
MOST_ROWS = 1 << 31
"""Rows of one segment are counted in 32 bits."""


@dataclass(frozen=True)
class SegmentEntry(Extensible):
    """A sealed segment as the manifest lists it: least and greatest time in ns, sizes of its two files."""

    number: int
    rows: int
    start: int
    end: int
    bytes: int = 0
    index_bytes: int = 0

    def __post_init__(self) -> None:
        if not (0 <= self.rows < MOST_ROWS and self.number >= 0 and self.bytes >= 0 and self.index_bytes >= 0):
            raise ValueError(f"no segment has number {self.number}, {self.rows} rows and {self.bytes} bytes")


@dataclass(frozen=True)
class Comment(Extensible):
    """What a person, or the file it came from, says of one frame. ``number`` counts frames from 0."""

    number: int
    text: str


@dataclass(frozen=True)
class Reading(Extensible):
    """What a device was seen to display: a value at a time in ns, and of what; late and rounded as people read."""

    time: int
    value: float
    of: str


@dataclass(frozen=True)
class Hole(Extensible):
    """A time in which nothing could be recorded of some buses, from and to in ns; and why."""

    start: int
    end: int
    buses: tuple[str, ...]
    why: str


@dataclass(frozen=True)
class Board(Extensible):
    """Signals that a person wants to see together, as ``Message.signal``."""

    name: str
    signals: tuple[str, ...]


@dataclass(frozen=True)
class NamedAsk(Extensible):
    """An ask that was given a name."""

    name: str
    text: str


@dataclass(frozen=True)
class DictionaryEntry(Extensible):
    """A dictionary that is used with a recording; the recording keeps a copy.

    Attributes:
        name: What it is called.
        source: The file it was read from.
        digest: SHA-256 of that file.
        file: The copy, beside the manifest.
        bus: The bus it is for; empty for all.
    """

    name: str
    source: str
    digest: str
    file: str
    bus: str = ""


_NAMES = frozenset(
    (
        "schema", "name", "source", "created", "clock", "buses", "segments", "marks", "dictionary", "dictionaries",
        "notes", "lost", "comments", "asks", "checks", "nominal", "packed", "readings", "pages", "holes",
        "waveforms", "lines", "generation", "replaced",
    )
)  # fmt: skip
"""The keys of a manifest that are known."""


@dataclass
class Manifest:
    """What a recording is.

    Attributes:
        dictionary: The recording's own: what was found in it. It comes before all others.
        dictionaries: Those used besides, the first with precedence.
        notes: Sentences about how it came to be: what an import skipped, times out of order.
        comments: What is said of single frames.
        asks: Named asks.
        checks: The user's own checks, as they are written.
        nominal: Nominal cycle times in ns that the user named, by key.
        readings: What devices were seen to display.
        boards: The user's own groups of signals.
        holes: When sources were not there.
        waveforms: The waveforms that lie beside the segments.
        lines: Buses whose frames were decoded from them.
        generation: Counts how often frames were decoded anew: a reader of an older one begins again.
        replaced: What stood before the last time, so that it can be taken back.
        more: What a later Keel stored besides.
        schema: How its frames are stored.
        is_dated: Whether times count from 1970 rather than from a zero of the recording's own.
        packed: Whether the segments are Parquet, for keeping, and must be unpacked to be read.
    """

    name: str
    source: str
    created: int
    buses: list[Bus] = field(default_factory=list)
    segments: list[SegmentEntry] = field(default_factory=list)
    marks: list[Mark] = field(default_factory=list)
    dictionary: Dictionary = field(default_factory=Dictionary)
    dictionaries: list[DictionaryEntry] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    lost: int = 0
    comments: list[Comment] = field(default_factory=list)
    asks: list[NamedAsk] = field(default_factory=list)
    checks: list[str] = field(default_factory=list)
    nominal: dict[int, int] = field(default_factory=dict)
    packed: bool = False
    readings: list[Reading] = field(default_factory=list)
    boards: list[Board] = field(default_factory=list)
    holes: list[Hole] = field(default_factory=list)
    waveforms: list[WaveformEntry] = field(default_factory=list)
    lines: list[LineEntry] = field(default_factory=list)
    generation: int = 0
    replaced: Replaced | None = None
    more: dict[str, Any] = field(default_factory=dict)
    schema: int = SCHEMA
    is_dated: bool = True

    @property
    def bus_names(self) -> list[str]:
        """The names of the buses in index order."""
        return [bus.name for bus in self.buses]

    def to_json(self) -> dict[str, Any]:
        """Plain data, schema version first."""
        return {
            "schema": self.schema,
            "name": plain(self.name),
            "source": plain(self.source, 1000),
            "created": self.created,
            "clock": DATED if self.is_dated else UNDATED,
            "buses": [to_plain(b, ("medium", "stamp", "assumed", "fast_assumed")) for b in self.buses],
            "segments": [to_plain(s) for s in self.segments],
            "marks": [to_plain(m) for m in self.marks],
            "dictionary": messages_to_json(self.dictionary),
            "dictionaries": [to_plain(d) for d in self.dictionaries],
            "notes": self.notes,
            "lost": self.lost,
            "comments": [to_plain(c) for c in self.comments],
            "asks": [to_plain(a) for a in self.asks],
            "checks": self.checks,
            "nominal": {str(key): ns for key, ns in self.nominal.items()},
            "packed": self.packed,
            "readings": [to_plain(r) for r in self.readings],
            "pages": [to_plain(b) for b in self.boards],
            **({"holes": [to_plain(h) for h in self.holes]} if self.holes else {}),
            **self._waveforms_to_json(),
            **self.more,
        }

    def _waveforms_to_json(self) -> dict[str, Any]:
        """What only recordings with waveforms have."""
        return {
            **({"waveforms": [to_plain(w) for w in self.waveforms]} if self.waveforms else {}),
            **({"lines": [to_plain(line) for line in self.lines]} if self.lines else {}),
            **({"generation": self.generation} if self.generation else {}),
            **({"replaced": to_plain(self.replaced)} if self.replaced is not None else {}),
        }

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Manifest:
        """The inverse of `to_json`; what a later Keel added is kept.

        Raises:
            KeyError, TypeError, ValueError: something is missing, or not what it should be.
        """
        import msgspec

        def part(name: str, kind: Any) -> Any:
            return msgspec.convert(data[name], kind, str_keys=True)

        def listed(name: str, kind: type[E], is_later: bool = False) -> list[E]:
            # Recordings from before there was such a thing have none.
            found = data.get(name, []) if is_later else data[name]
            if not isinstance(found, list):
                raise TypeError(f"“{name}” is no list")
            return [from_plain(one, kind) for one in found]

        return cls(
            name=part("name", str),
            source=part("source", str),
            created=part("created", int),
            buses=listed("buses", Bus),
            segments=listed("segments", SegmentEntry),
            marks=listed("marks", Mark),
            dictionary=messages_from_json(data["dictionary"]),
            dictionaries=listed("dictionaries", DictionaryEntry, is_later=True),
            notes=part("notes", list[str]),
            lost=part("lost", int),
            comments=listed("comments", Comment),
            asks=listed("asks", NamedAsk),
            checks=part("checks", list[str]),
            nominal=part("nominal", dict[int, int]),
            packed=part("packed", bool),
            readings=listed("readings", Reading, is_later=True),
            boards=listed("pages", Board, is_later=True),
            holes=listed("holes", Hole, is_later=True),
            waveforms=listed("waveforms", WaveformEntry, is_later=True),
            lines=listed("lines", LineEntry, is_later=True),
            generation=part("generation", int) if "generation" in data else 0,
            replaced=from_plain(data["replaced"], Replaced) if "replaced" in data else None,
            more={name: value for name, value in data.items() if name not in _NAMES},
            schema=part("schema", int),
            is_dated=data.get("clock") != UNDATED,
        )


def load_manifest(folder: Path) -> Manifest:
    """The manifest of a recording.

    Raises:
        NotARecording: there is none, or it cannot be read.
        RecordingError: it was written by a newer Keel.
    """
    try:
        data = json.loads((folder / FILE).read_text(encoding="utf-8"))
        schema = data["schema"]
    except FileNotFoundError:
        raise NotARecording(str(folder), f"not a recording: it has no {FILE}") from None
    except (OSError, ValueError, KeyError, TypeError, RecursionError) as error:
        raise NotARecording(str(folder / FILE), f"cannot be read ({error})") from None
    if schema not in READABLE:
        known = " and ".join(map(str, READABLE))
        raise RecordingError(str(folder), f"schema version {schema!r}, but this Keel reads versions {known}")
    try:
        return Manifest.from_json(data)
    except (AttributeError, KeyError, TypeError, ValueError) as error:
        raise NotARecording(str(folder / FILE), f"does not hold a manifest ({error!r})") from None


def write_atomically(path: Path, text: str, durable: bool = True) -> None:
    """Exchange a file's content as a whole: a reader or a crash sees the old or the new, never a mixture."""
    draft = path.with_name(f".{path.name}.{os.getpid()}.draft")
    with draft.open("w", encoding="utf-8") as file:
        file.write(text)
        if durable:
            file.flush()
            os.fsync(file.fileno())
    draft.replace(path)


def save_manifest(folder: Path, manifest: Manifest) -> None:
    """Write the manifest; the caller holds the lock or owns the folder."""
    write_atomically(folder / FILE, json.dumps(manifest.to_json(), indent=1, ensure_ascii=False) + "\n")


@contextmanager
def edit_manifest(folder: Path) -> Iterator[Manifest]:
    """Read, change and write the manifest while nobody else does.

    Raises:
        RecordingError: the folder is gone, or cannot be written.
    """
    with at_the_edge(folder, "be changed"), alone(folder / ".lock"):
        manifest = load_manifest(folder)
        yield manifest
        save_manifest(folder, manifest)
