"""What people add to a recording: marks, kept signals, worked controls. Done on the desk's thread; can be undone."""

from __future__ import annotations

import re
from collections.abc import Callable
from copy import copy
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keel.app.desk.desk import Desk
from keel.app.desk.picture import Picture
from keel.app.shared.state import History
from keel.model.identity import unpack_key
from keel.model.span import Mark, of_try, tries_of

if TYPE_CHECKING:
    from keel.hunt.candidates import Candidate
    from keel.hunt.structure import Structure
    from keel.signals.dictionary import Dictionary, Signal
    from keel.signals.loading import Loaded
    from keel.store.manifest import Manifest

EDITED = ("comments", "asks", "checks", "nominal", "readings", "pages", "dictionaries")
"""What `Editing.edit` may change."""
FAULT = "fault-"
"""Controls called so set faults aboard: nothing is tried with them."""


class Editing:
    """Edits one recording."""

    def __init__(self, folder: Path, desk: Desk, history: History) -> None:
        self._folder, self._desk, self._history = folder, desk, history
        self._given = 0
        self._try: str | None = None

    def add_mark(self, time: int) -> int:
        """Flag a moment; returns the mark's number."""
        from keel.store.manifest import edit_manifest, load_manifest

        marks = load_manifest(self._folder).marks
        number = max((*(m.number for m in marks), self._given)) + 1
        self._given = number
        of = self._try if self._try is not None else (tries_of(marks) or [""])[-1]

        def add() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.marks.append(Mark(number, time, of=of))

        def remove() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.marks = [m for m in manifest.marks if m.number != number]
            self._given = 0

        self._desk.do(add)
        self._history.push(f"mark {number}", lambda: self._desk.do(remove), lambda: self._desk.do(add))
        return number

    def begin_try(self, name: str) -> None:
        """Marks belong to this try from now on; a last mark of the try before that has no partner goes over to it."""
        from keel.store.manifest import edit_manifest

        before, self._try = self._try, name

        def begin() -> None:
            with edit_manifest(self._folder) as manifest:
                mine = of_try(manifest.marks, before)
                if len(mine) % 2 and mine[-1].of != name:
                    manifest.marks = [replace(m, of=name) if m is mine[-1] else m for m in manifest.marks]

        self._desk.do(begin)

    def keep_draft(self, drafted: Dictionary) -> None:
        """Fill the recording's dictionary with a draft where it says nothing yet."""
        from keel.signals.dictionary import merged
        from keel.store.manifest import edit_manifest, load_manifest

        before = load_manifest(self._folder).dictionary

        def keep() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.dictionary = merged([manifest.dictionary, drafted], manifest.dictionary.name)

        def drop() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.dictionary = before

        self._desk.do(keep)
        self._history.push("draft dictionary", lambda: self._desk.do(drop), lambda: self._desk.do(keep))

    def keep_signal(self, picture: Picture, key: int, signal: Signal, structure: Structure | None = None) -> str:
        """Keep a signal in the recording's dictionary; returns what was done, in words.

        Of an identifier with pages the selector is kept, too: without it nobody knows when the signal is there.
        """
        from keel.signals.dictionary import Signal
        from keel.store.manifest import edit_manifest

        bus_index, form, ident = unpack_key(key)
        bus = picture.snapshot.manifest.buses[bus_index].name
        known = picture.messages.get(key)
        more = [signal]
        has_selector = known is not None and known.selector is not None
        if signal.pages and structure is not None and structure.selector is not None and not has_selector:
            more.append(Signal("page", structure.selector.field, role="selector", found="seen in the structure"))
        before = picture.snapshot.manifest.dictionary

        def keep() -> None:
            with edit_manifest(self._folder) as manifest:
                for one in more:
                    name = known.name if known is not None else ""
                    manifest.dictionary = manifest.dictionary.with_signal(bus, form, ident, one, name)

        def drop() -> None:
            with edit_manifest(self._folder) as manifest:
                old = before.find(bus, form, ident)
                for one in more:
                    manifest.dictionary = manifest.dictionary.without_signal(bus, form, ident, one.name)
                    for earlier in old.signals if old else ():
                        if earlier.name == one.name:
                            manifest.dictionary = manifest.dictionary.with_signal(bus, form, ident, earlier)

        self._desk.do(keep)
        self._history.push(f"signal {signal.name}", lambda: self._desk.do(drop), lambda: self._desk.do(keep))
        return f"kept {signal.name}: {signal.field.words()} of {picture.name(key)}"

    def use_dictionary(self, loaded: Loaded) -> None:
        """Use a dictionary from now on, after those that are used; undone by no longer using it."""
        from keel.store.dictionaries import use_dictionary
        from keel.store.manifest import edit_manifest, load_manifest

        before = load_manifest(self._folder).dictionaries

        def use() -> None:
            use_dictionary(self._folder, loaded)

        def drop() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.dictionaries = before

        self._desk.do(use)
        self._history.push(f"dictionary {loaded.path.stem}", lambda: self._desk.do(drop), lambda: self._desk.do(use))

    def edit(self, words: str, change: Callable[[Manifest], None]) -> None:
        """Change the manifest, so that it can be taken back; ``change`` must leave dictionary and segments alone."""
        from keel.store.manifest import edit_manifest

        kept: list[dict[str, Any]] = []

        def do() -> None:
            with edit_manifest(self._folder) as manifest:
                kept.append({name: copy(getattr(manifest, name)) for name in EDITED})
                change(manifest)

        def undo() -> None:
            with edit_manifest(self._folder) as manifest:
                for name, value in kept.pop().items():
                    setattr(manifest, name, value)

        self._desk.do(do)
        self._history.push(words, lambda: self._desk.do(undo), lambda: self._desk.do(do))

    def work_control(self, name: str, value: str) -> None:
        """Ask the recorder to work a control of its source; marks about it are of a try of its own."""
        from keel.store.control import ask_control

        if name != self._try and not name.startswith(FAULT):
            self.begin_try(name)
        self._desk.do(lambda: ask_control(self._folder, name, value))


def named_signal(text: str, candidate: Candidate) -> Signal:
    """The signal that a person means by a line: its name, its texts as ``0=off``, and a unit after the last comma.

    Words of the name are joined: ``ramp angle, °`` is ``ramp_angle`` in degrees.
    """
    from keel.signals.dictionary import Signal

    texts = {int(raw): word.strip('"') for raw, word in re.findall(r'(-?\d+)=("[^"]*"|[^\s,]+)', text)}
    rest = re.sub(r'(-?\d+)=("[^"]*"|[^\s,]+)', " ", text)
    name, _, unit = rest.partition(",")
    return Signal(
        re.sub(r"\s+", "_", name.strip()) or "signal",
        candidate.field,
        1.0 if candidate.scale is None else candidate.scale,
        0.0 if candidate.offset is None else candidate.offset,
        unit.strip(" ,"),
        texts,
        "flag" if candidate.field.length == 1 else "value",
        () if candidate.page is None else ((candidate.page, candidate.page),),
        found=f"score {candidate.score:.3f}: {candidate.why}",
    )
