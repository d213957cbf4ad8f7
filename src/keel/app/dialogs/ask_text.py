"""Asks for one line."""

from __future__ import annotations

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widget import Widget
from textual.widgets import Input, Static

from keel.app.dialogs.window import Window
from keel.model.safe_text import plain


class AskText(Window[str]):
    """A question and the line that answers it."""

    def __init__(self, title: str, hint: str, proposal: str, empty: bool = False) -> None:
        """With ``empty``, an empty line is an answer too."""
        super().__init__()
        self._title, self._hint, self._proposal, self._empty = title, hint, proposal, empty

    def compose(self) -> ComposeResult:
        """The question, the line, what may be typed."""
        with Vertical():
            yield Static(plain(self._title), markup=False)
            yield Input(self._proposal, id="name", max_length=200, compact=True)
            yield Static("", markup=False)
            yield Static(plain(self._hint), classes="dim", markup=False)

    def first(self) -> Widget:
        """The line."""
        return self.query_one(Input)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take it."""
        text = event.value.strip()
        self.dismiss(text if text or self._empty else None)
