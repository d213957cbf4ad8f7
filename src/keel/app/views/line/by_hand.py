"""A line read anew as a person says, for good, and how that is undone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.views.line.trial import Trial
from keel.errors import InputError

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture


def read_anew(picture: Picture, trial: Trial) -> str:
    """Read a line anew; gives the sentence to tell.

    Raises:
        InputError: something said is not to be understood, or no code explains the line so.
        RecordingError: it cannot be written, or somebody writes to it.
    """
    from keel.probe.anew import decode_anew
    from keel.probe.lines import told

    done = decode_anew(picture.wish.folder, picture.snapshot, trial.anew())
    if not done.lines:
        why = next((one for sentences in done.said.values() for one in sentences), "no code explains it")
        raise InputError(trial.bus, why, "another code or rate; its frames stay as they were")
    return f"{trial.bus}: {told(done.lines[0])[0]}"


@dataclass
class Exchanged:
    """A line that was read anew, as a step to undo."""

    folder: Path
    submit: Callable[[Callable[[], None]], None]
    failed: bool = False

    def undo(self) -> None:
        """Take it back."""
        self.submit(self._exchange)

    def redo(self) -> None:
        """Bring it forth again."""
        self.submit(self._exchange)

    def _exchange(self) -> None:
        from keel.store.replacing import take_back

        take_back(self.folder)
