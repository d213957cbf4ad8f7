"""What the commands that read a recording have in common."""

from __future__ import annotations

from dataclasses import replace
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.ask.nodes import Scene
    from keel.signals.book import Book
    from keel.store.recording import Snapshot

Rec = Annotated[Path, typer.Argument(metavar="REC", help="A recording: its path, or its name on the shelf.")]
Ask = Annotated[str, typer.Option("--ask", metavar="ASK", help="Only frames that meet this, as 'id:220 or fault'.")]

BusPairs = Annotated[
    list[str] | None,
    typer.Option(
        "--bus", metavar="A=B", help="Bus A of the first is bus B of the second, where names differ; may be repeated."
    ),
]


def finite(value: float | None) -> float | None:
    """A number that is one: for the options that take numbers with a point."""
    if value is not None and not isfinite(value):
        raise typer.BadParameter(f"{value} is no number to use here")
    return value


def time_ns(option: str, text: str) -> int:
    """A time in ns: written with a unit, or in seconds.

    Raises:
        InputError: it is none.
    """
    from keel.ask.times import moment_ns
    from keel.errors import InputError

    try:
        return round(float(text) * 1e9)
    except (ValueError, OverflowError):
        try:
            return moment_ns(text)
        except ValueError:
            raise InputError(option, f"“{text}” is no time", "seconds, or a number with its unit, as 3ms") from None


def text_of(path: Path, expected: str) -> str:
    """A text file.

    Raises:
        InputError: it cannot be read, or is no text.
    """
    from keel.errors import InputError

    try:
        return path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", expected) from None
    except ValueError:
        raise InputError(str(path), "is no text", expected) from None


def find_recording(given: Path) -> Path:
    """The recording meant; see `keel.store.library.find_recording`."""
    from keel.store import library

    return library.find_recording(given)


CHECKED_BYTES = 64 << 20
"""A recording no larger is compared with its checksums each time it is read; a larger one by ``keel verify``."""


def _damage(folder: Path, snapshot: Snapshot) -> list[str]:
    from keel.store.verify import verify

    if snapshot.live or sum(entry.bytes for entry in snapshot.manifest.segments) > CHECKED_BYTES:
        return []
    told = " ".join(snapshot.problems)
    findings = [f for f in verify(folder) if Path(f.file).stem not in told]
    return [f"{f.file}: {f.what}; keel verify --repair keeps what is whole" for f in findings]


def _book_of(given: tuple[str, ...], buses: list[str]) -> Book:
    from keel.cli.loading import load
    from keel.signals.book import Book

    found = []
    for one in given:
        bus, equals, file = one.partition("=")
        for_bus = bool(equals) and bus in buses
        dictionary = load(Path(file if for_bus else one)).dictionary
        found.append(dictionary.on_bus(bus) if for_bus else dictionary)
    return Book(found, buses)


def opened(given: Path) -> Snapshot:
    """The recording as it stands; what is wrong with it is told."""
    from keel.cli import say
    from keel.model.safe_text import plain
    from keel.store.recording import Recording

    snapshot = Recording(find_recording(given)).snapshot()
    for problem in (*snapshot.problems, *_damage(find_recording(given), snapshot)):
        say(f"keel: {problem}")
    manifest = snapshot.manifest
    if manifest.lost:
        # Whoever counts what is there has to know that it is not all there was.
        why = "; ".join(plain(note, 300) for note in manifest.notes if "lost" in note)
        say(f"keel: {manifest.lost} frames are missing from {plain(manifest.name)}" + (f": {why}" if why else ""))
    return snapshot


def read(
    given: Path,
    ask: str,
    start: float | None = None,
    end: float | None = None,
    dictionaries: tuple[str, ...] = (),
) -> tuple[Snapshot, Scene, Matches]:
    """The recording as it stands, and the frames of it that meet the ask, from ``start`` to ``end`` (seconds).

    ``dictionaries`` are files, each ``FILE`` or ``BUS=FILE``, to be used instead of the recording's own.
    """
    from keel.ask.hints import ambiguities, unmet
    from keel.ask.language import parse
    from keel.ask.matches import Matcher
    from keel.ask.names import keys_of, scene_of
    from keel.cli import say
    from keel.errors import InputError
    from keel.model.safe_text import plain
    from keel.model.span import Span

    snapshot = opened(given)
    if dictionaries:
        snapshot = replace(snapshot, book=_book_of(dictionaries, snapshot.manifest.bus_names))
    scene = scene_of(snapshot)
    lens = None
    if start is not None or end is not None:
        whole = snapshot.span
        zero = snapshot.zero
        low = whole.start if start is None else zero + round(start * 1e9)
        high = whole.end if end is None else zero + round(end * 1e9)
        if high <= low or low >= whole.end or high <= whole.start:
            first, last = ((t - zero) / 1e9 for t in (whole.start, whole.end))
            raise InputError(
                "--from and --to", "no time of the recording lies between them", f"{first:.3f} to {last:.3f} s"
            )
        lens = Span(low, high)
    node = parse(ask, scene)
    matches = Matcher(node, scene).run(snapshot, lens)
    hints = ambiguities(node, scene)
    if not matches.total:
        hints += unmet(node, scene, keys_of(snapshot), snapshot.span)
    for hint in hints:
        say(f"keel: {plain(hint)}")
    return snapshot, scene, matches
