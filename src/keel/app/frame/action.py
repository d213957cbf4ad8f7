"""An action: its key, its words, what it does. Key line, command palette and guide are made from these."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from keel.app.frame.helm import Helm


@dataclass(frozen=True)
class Action:
    """Something a person can do.

    Attributes:
        keys: The keys that do it, as Textual names them.
        shown: The key as people read it.
        word: On the key line; empty if it does not stand there.
        help: In the palette and the guide.
        do: Does it.
    """

    keys: tuple[str, ...]
    shown: str
    word: str
    help: str
    do: Callable[[Helm], None]
    stays: bool = False
    """Whether the key line keeps it however narrow it is."""


FAR = 1 << 30
Move = Callable[[Helm, int], None]


def moves(move: Move, screenful: Callable[[Helm], int]) -> tuple[Action, ...]:
    """The actions of a list: ``move`` takes another row in hand, so many further down; at the ends it stays."""
    return (
        Action(("up", "k"), "↑", "", "One row up", lambda helm: move(helm, -1)),
        Action(("down", "j"), "↓", "", "One row down", lambda helm: move(helm, 1)),
        Action(("pageup",), "PgUp", "", "One page up", lambda helm: move(helm, -screenful(helm))),
        Action(("pagedown",), "PgDn", "", "One page down", lambda helm: move(helm, screenful(helm))),
        Action(("home",), "Home", "", "To the first row", lambda helm: move(helm, -FAR)),
        Action(("end",), "End", "", "To the last row", lambda helm: move(helm, FAR)),
    )
