"""A list to choose from; typing narrows it."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widget import Widget
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from keel.app.dialogs.window import Window
from keel.app.frame.helm import Choice
from keel.model.safe_text import plain

MOVES = {
    "up": "cursor_up",
    "down": "cursor_down",
    "pageup": "page_up",
    "pagedown": "page_down",
    "home": "first",
    "end": "last",
}


class Narrowing(Input):
    """The line that narrows the list. Keys that move go to the list."""

    async def on_key(self, event: events.Key) -> None:
        """Up and down."""
        if event.key in MOVES:
            event.stop()
            event.prevent_default()
            getattr(self.screen.query_one(OptionList), f"action_{MOVES[event.key]}")()


class Choose(Window[str]):
    """The window. Gives back the value that was chosen."""

    def __init__(self, title: str, choices: Sequence[Choice] | None) -> None:
        """Choices that are None are still looked up; `fill` brings them."""
        super().__init__()
        self._title, self._choices = title, choices
        self._shown: list[Choice] = list(choices or ())

    def compose(self) -> ComposeResult:
        """The list, and the line that narrows it."""
        with Vertical():
            yield Static(plain(self._title), markup=False)
            yield OptionList(*(_option(c) for c in self._shown))
            yield Narrowing("", id="narrowing", compact=True, placeholder="type to narrow the list")
            yield Static("", markup=False)
            yield Static("↑ ↓ choose    enter take    esc leave", classes="dim", id="hint", markup=False)

    def first(self) -> Widget:
        """The line: the list is moved by its keys."""
        return self.query_one(Input)

    def make_ready(self) -> None:
        """Take keys once there is something to choose from."""
        if self._choices is None:
            self.query_one("#hint", Static).update("looking…    esc leave")
        else:
            self._list("")
            super().make_ready()

    def fill(self, choices: Sequence[Choice]) -> None:
        """The choices are there."""
        self._choices = choices
        if self.is_mounted:
            hint = "↑ ↓ choose    enter take    esc leave" if choices else "there is none    esc leave"
            self.query_one("#hint", Static).update(hint)
            self.make_ready()

    def on_input_changed(self, event: Input.Changed) -> None:
        """Narrow the list."""
        self._list(event.value)

    def _list(self, typed: str) -> None:
        words = typed.lower().split()
        self._shown = [c for c in self._choices or () if all(word in c.words.lower() for word in words)]
        options = self.query_one(OptionList)
        options.clear_options()
        options.add_options([_option(c) for c in self._shown])
        options.highlighted = 0 if self._shown else None

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take what is highlighted."""
        at = self.query_one(OptionList).highlighted
        if at is not None and at < len(self._shown):
            self.dismiss(self._shown[at].value)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Take what was clicked."""
        self.dismiss(self._shown[event.option_index].value)


def _option(choice: Choice) -> Option:
    return Option(Text(plain(choice.words)))
