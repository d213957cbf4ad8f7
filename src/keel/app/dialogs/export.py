"""What to save, and where."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widget import Widget
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from keel.app.dialogs.window import Window
from keel.app.frame.helm import Offer
from keel.model.safe_text import plain


class Export(Window[tuple[Offer, str]]):
    """The window. Gives back the offer and the path."""

    def __init__(self, offers: list[Offer]) -> None:
        super().__init__()
        self._offers = offers

    def compose(self) -> ComposeResult:
        """The offers, and the path."""
        with Vertical():
            yield Static("export", markup=False)
            yield OptionList(*(Option(Text(plain(offer.words))) for offer in self._offers))
            yield Static("to this file; of a drawing the ending .svg or .pdf says which", classes="dim", markup=False)
            yield Input(self._offers[0].path, id="path", compact=True)
            yield Static("", markup=False)
            yield Static("↑ ↓ what    tab path    enter export    esc leave", classes="dim", markup=False)

    def first(self) -> Widget:
        """The list."""
        return self.query_one(OptionList)

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        """Propose a name that fits."""
        self.query_one(Input).value = self._offers[event.option_index].path

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Export this."""
        self._take(event.option_index, self.query_one(Input).value)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Export what is highlighted."""
        self._take(self.query_one(OptionList).highlighted or 0, event.value)

    def _take(self, place: int, path: str) -> None:
        self.dismiss((self._offers[place], path.strip()) if path.strip() else None)
