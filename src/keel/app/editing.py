"""What people add to a recording: marks, kept signals, worked controls. Done on the desk's thread; can be undone."""

from __future__ import annotations

import re
from collections.abc import Callable
from copy import copy
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keel.app.desk import Desk
from keel.app.picture import Picture
from keel.app.state import History
from keel.model.identity import unpack_key
from keel.model.span import Mark

if TYPE_CHECKING:
    from keel.hunt.candidates import Candidate
    from keel.signals.loading import Loaded
    from keel.store.manifest import Manifest

EDITED = ("comments", "asks", "checks", "nominal", "readings", "pages", "dictionaries")
"""What `Editing.edit` may change."""


class Editing:
    """Edits one recording."""

    def __init__(self, folder: Path, desk: Desk, history: History) -> None:
        self._folder, self._desk, self._history = folder, desk, history
        self._given = 0

    def add_mark(self, time: int) -> int:
        """Flag a moment; returns the mark's number."""
        from keel.store.manifest import edit_manifest, load_manifest

        taken = max((m.number for m in load_manifest(self._folder).marks), default=0)
        number = max(taken, self._given) + 1
        self._given = number

        def add() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.marks.append(Mark(number, time))

        def remove() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.marks = [m for m in manifest.marks if m.number != number]
            self._given = 0

        self._desk.do(add)
        self._history.push(f"mark {number}", lambda: self._desk.do(remove), lambda: self._desk.do(add))
        return number

    def keep_signal(self, picture: Picture, candidate: Candidate, name: str) -> str:
        """Keep a candidate as a named signal; returns what was done, in words."""
        from keel.signals.dictionary import Signal
        from keel.store.manifest import edit_manifest

        name = re.sub(r"\s+", "_", name)
        bus_index, form, ident = unpack_key(candidate.key)
        bus = picture.snapshot.manifest.buses[bus_index].name
        role = "flag" if candidate.field.length == 1 else "value"
        note = f"found by marks, score {candidate.score:.3f}: {candidate.why}"
        signal = Signal(name, candidate.field, role=role, found=note)  # type: ignore[arg-type]
        old = picture.snapshot.manifest.dictionary

        def keep() -> None:
            with edit_manifest(self._folder) as manifest:
                manifest.dictionary = manifest.dictionary.with_signal(bus, form, ident, signal)

        def drop() -> None:
            with edit_manifest(self._folder) as manifest:
                known = old.find(bus, form, ident)
                manifest.dictionary = manifest.dictionary.without_signal(bus, form, ident, name)
                for before in known.signals if known else ():
                    if before.name == name:
                        manifest.dictionary = manifest.dictionary.with_signal(bus, form, ident, before)

        self._desk.do(keep)
        self._history.push(f"signal {name}", lambda: self._desk.do(drop), lambda: self._desk.do(keep))
        return f"kept {name}: {candidate.field.words()} of {picture.name(candidate.key)}"

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
        """Ask the recorder to work a control of its source."""
        from keel.store.control import ask_control

        self._desk.do(lambda: ask_control(self._folder, name, value))
