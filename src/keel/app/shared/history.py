"""The way back through the changes a person made, and forward again.

A step keeps the state that was left, so that going back lands where the person was; going forward lands where the
person went back from. An edit of a recording is undone by the edit itself: see `keel.app.desk.deeds`.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Protocol

from keel.app.shared.state import State

MOST_STEPS_BACK = 200


class Undoable(Protocol):
    """An edit of a recording that can be taken back."""

    @property
    def failed(self) -> bool:
        """Whether it never came about: then there is nothing to take back."""

    def undo(self) -> None:
        """Have it taken back."""

    def redo(self) -> None:
        """Have it made again."""


@dataclass(frozen=True)
class Step:
    """A change: what it was, the state on the other side of it, and the edit it made, if any."""

    words: str
    state: State
    edit: Undoable | None = None


@dataclass
class History:
    """The changes made, newest last, and those that were undone, newest last."""

    steps: list[Step] = field(default_factory=list)
    undone: list[Step] = field(default_factory=list)

    def push(self, words: str, left: State, edit: Undoable | None = None, joins: bool = False) -> None:
        """Remember a change and the state that was left by it.

        Args:
            words: What it was.
            left: The state before it.
            edit: The edit of the recording that belongs to it.
            joins: Whether it goes on with the change before, if that has the same words: moving a cursor does.
        """
        self.undone.clear()
        last = self.steps[-1] if self.steps else None
        if joins and last is not None and last.words == words and last.edit is None and edit is None:
            return
        self.steps.append(Step(words, left, edit))
        del self.steps[:-MOST_STEPS_BACK]

    def back(self, now: State) -> Step | None:
        """The newest change, undone; its state is where to go. None if there is none."""
        while self.steps:
            step = self.steps.pop()
            if step.edit is not None and step.edit.failed:
                continue
            self.undone.append(replace(step, state=now))
            if step.edit is not None:
                step.edit.undo()
            return replace(step, state=replace(step.state, held=now.held))
        return None

    def forward(self, now: State) -> Step | None:
        """The change undone last, made again; its state is where to go. None if there is none."""
        if not self.undone:
            return None
        step = self.undone.pop()
        self.steps.append(replace(step, state=now))
        if step.edit is not None:
            step.edit.redo()
        return replace(step, state=replace(step.state, held=now.held))
