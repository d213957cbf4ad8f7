"""The guide: what views share, the views, the keys, the ask. Made from the actions."""

from __future__ import annotations

from collections.abc import Sequence

from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.widget import Widget
from textual.widgets import Static

from keel.app.dialogs.window import Window
from keel.app.frame.action import Action
from keel.app.frame.view import Door

SHARED = (
    ("lens", "the window of time being looked at: drag on the tape, or [ ] + - 0"),
    ("ask", "the condition frames must meet: /"),
    ("pick", "the identifier, field or frame in hand: ↑ ↓ or a click"),
    ("mark", "a moment you flagged: m"),
)
Keys = Sequence[tuple[Door, Sequence[Action]]]
"""The views, and the actions of each."""


def guide_text(views: Keys, everywhere: Sequence[Action]) -> str:
    """The guide."""
    from keel.ask.vocabulary import help_lines

    parts = ["Four things every view shares; change one and all views follow. ⌫ undoes any change, > redoes it.", ""]
    parts += [f"  {name:8}{text}" for name, text in SHARED]
    parts += ["", "Views"]
    parts += [f"  {door.key}  {door.title:8}{door.question}" for door, _ in views]
    parts += ["", "Keys in every view"]
    parts += [f"  {action.shown:8}{action.help}" for action in everywhere]
    parts += ["  ctrl+p  Every action by name"]
    for door, actions in views:
        parts += ["", f"Keys in {door.title}"]
        parts += [f"  {action.shown:8}{action.help}" for action in actions]
    parts += ["", "The ask"]
    parts += [f"  {example:40}{text}" for example, text in help_lines()]
    parts += [
        "",
        "Time differences: Δ row is since the frame shown before, so it follows the ask; Δ same id is since the same",
        "identifier was heard before, whatever is shown.",
        "",
        "In narrow windows columns drop in this order",
        "  Watch   kept signals, activity, changes, std, frames, cycle, name",
        "  Frames  the times not chosen, Δ row, direction, name, kept signals, bus, number, length",
    ]
    return "\n".join(parts)


class Guide(Window[str]):
    """The window."""

    DEFAULT_CSS = """
    Guide VerticalScroll {
        width: 118; max-width: 96%; height: 90%; background: $panel; padding: 1 3;
        border: round $primary; border-title-color: $primary;
    }
    """
    BINDINGS = [Binding("escape,q,question_mark", "leave", show=False)]

    def __init__(self, views: Keys, everywhere: Sequence[Action]) -> None:
        super().__init__()
        self._text = guide_text(views, everywhere)

    def compose(self) -> ComposeResult:
        """The text."""
        with VerticalScroll():
            yield Static(self._text, markup=False)

    def first(self) -> Widget:
        """Keys scroll it."""
        return self.query_one(VerticalScroll)
