"""Foreign files into a recording."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from keel.errors import InputError, RecordingError
from keel.formats import delimited
from keel.formats.layout import Layout
from keel.formats.reader import Account, Format
from keel.formats.registry import recognise
from keel.model.bus import MOST_BUSES, Bus, Rates, bus_name
from keel.model.frames import FrameBatch, replace_columns
from keel.model.safe_text import plain
from keel.model.units import FIRST_DATED_NS
from keel.store.manifest import Comment, Manifest, edit_manifest
from keel.store.writer import Writer, create_recording

CROWDED = f"frames of more than {MOST_BUSES} buses"


@dataclass
class Imported:
    """What an import did."""

    folder: Path
    frames: int = 0
    accounts: list[tuple[Path, str, str, Account]] = field(default_factory=list)


def import_files(
    files: list[Path],
    folder: Path,
    progress: Callable[[Path, int, int], None] = lambda *_: None,
    rates: Rates = Rates(),  # noqa: B008
    layout: Layout | None = None,
    read_as: Format | None = None,
    zero: int | None = None,
) -> Imported:
    """Read files one after another into a new recording.

    The recording appears whole or not at all: it is built beside its place and moved there. With a ``layout`` the
    files are read as delimited text that lies so, with ``read_as`` as of that format, whatever they seem to be.
    ``zero`` is the date, in ns since 1970, from which files count whose times have no date.

    Raises:
        InputError: a file cannot be read, no frame was found in any, or some have dates and others do not.
        RecordingError: the recording exists already.
    """
    if folder.exists():
        raise RecordingError(str(folder), "there is something of this name already")
    draft = folder.with_name(f".{folder.name}.draft")
    shutil.rmtree(draft, ignore_errors=True)
    kinds = [(path, *_kind_of(path, layout, read_as)) for path in files]
    source = ", ".join(plain(path.name) for path in files)
    create_recording(draft, Manifest(folder.stem, f"import of {source}", time.time_ns()))
    done = Imported(folder)
    comments: list[Comment] = []
    clock = _Clock(zero)
    try:
        writer = Writer(draft, journal=False)
        try:
            for path, known, why in kinds:
                account = Account()
                done.accounts.append((path, known.name, why, account))
                for batch in known.read(path, account, lambda at, total, path=path: progress(path, at, total)):  # type: ignore[misc]
                    batch = clock.dated(path, account, batch)
                    kept = _with_buses(writer, batch, account, rates)
                    account.frames -= len(batch) - len(kept)
                    writer.append(kept)
                comments += [Comment(done.frames + number, text) for number, text in account.comments]
                done.frames += account.frames
        finally:
            writer.close()
        if not done.frames:
            said = [s for *_, a in done.accounts for s in a.sentences()]
            raise InputError(source, "no frame could be read" + "".join(f"; {s}" for s in said))
        with edit_manifest(draft) as manifest:
            manifest.is_dated = clock.is_dated is not False
            manifest.comments = comments
            manifest.lost = sum(account.missing for *_, account in done.accounts)
            manifest.notes = [
                f"{plain(path.name)}: {sentence}"
                for path, _, _, account in done.accounts
                for sentence in account.sentences()
            ]
        draft.rename(folder)
    except BaseException:
        shutil.rmtree(draft, ignore_errors=True)
        raise
    return done


class _Clock:
    """The one clock of a recording: dated, or from a zero of its own.

    Attributes:
        is_dated: Which of the two; None before the first frame.
    """

    def __init__(self, zero: int | None) -> None:
        self._zero = zero
        self._offsets: dict[Path, int] = {}
        self._by: Path | None = None
        self.is_dated: bool | None = None

    def dated(self, path: Path, account: Account, batch: FrameBatch) -> FrameBatch:
        """A file's frames on the recording's clock.

        Raises:
            InputError: it has dates and the files before it have none, or the other way round.
        """
        if not len(batch):
            return batch
        if path not in self._offsets:
            self._offsets[path] = self._meet(path, account, int(batch.time[0]) >= FIRST_DATED_NS)
        offset = self._offsets[path]
        return replace_columns(batch, time=batch.time + offset) if offset else batch

    def _meet(self, path: Path, account: Account, has_date: bool) -> int:
        """What is added to a file's times."""
        offset = 0 if has_date or self._zero is None else self._zero
        has_date = has_date or offset > 0
        if self.is_dated not in (None, has_date):
            one, other = ("dates", "none") if has_date else ("no date", "dates")
            what = f"its times have {one}, those of {plain(str(self._by))} have {other}"
            raise InputError(str(path), what, "--zero with the date that the undated count from, or one recording each")
        if not has_date:
            account.notes.append("times without a date: they count from a zero of their own (--zero gives it a date)")
        self.is_dated, self._by = has_date, path
        return offset


def _kind_of(path: Path, layout: Layout | None, read_as: Format | None) -> tuple[Format, str]:
    if read_as is not None:
        if not path.is_file():
            # Says what is wrong with it.
            recognise(path)
        return read_as, "as it was named"
    if layout is None:
        return recognise(path)
    return Format(delimited.FORMAT.name, lambda _: None, delimited.reader(layout)), "by the layout given"


def _name_of(name: str, medium: str, buses: Sequence[Bus]) -> str:
    """A bus's name; if an earlier file has one of another kind of line under it, with its kind."""
    taken = any(bus.name == name and bus.medium != medium for bus in buses)
    return f"{name} {medium}" if taken else name


def _with_buses(writer: Writer, batch: FrameBatch, account: Account, rates: Rates) -> FrameBatch:
    known = [bus.name for bus in writer.buses]
    names = [_name_of(bus_name(name), account.media.get(name, "can"), writer.buses) for name in account.bus_names]
    for name, given in zip(names, account.bus_names, strict=True):
        if name not in known and len(known) < MOST_BUSES:
            writer.add_bus(rates.bus(name, account.media.get(given, "can")))
            known.append(name)
    index = np.array([known.index(name) if name in known else -1 for name in names], np.int64)[batch.bus]
    if (index < 0).any():
        # Several files together have more buses than one recording may.
        account.lose(CROWDED, "the first file with others", account.unkept.get(CROWDED, 0) + int((index < 0).sum()))
        batch, index = batch.take(np.flatnonzero(index >= 0)), index[index >= 0]
    return replace_columns(batch, bus=index.astype(np.uint8))
