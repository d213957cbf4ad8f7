"""The windows in which a person is asked something, as actions use them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TypeVar

from textual.screen import Screen

from keel.app.frame.helm import Choice

if TYPE_CHECKING:
    from keel.app.careful import Careful

R = TypeVar("R")


class Asking:
    """Opens windows over an app."""

    def __init__(self, app: Careful) -> None:
        self._app = app

    def open(
        self, screen: Screen[R | None], then: Callable[[R], None], left: Callable[[], None] = lambda: None
    ) -> None:
        """Open a window; ``then`` takes what it gives, ``left`` is called if the person leaves it."""

        def closed(answer: R | None) -> None:
            with self._app.telling():
                if answer is not None:
                    then(answer)
                else:
                    left()

        self._app.push_screen(screen, closed)

    def text(self, title: str, hint: str, proposal: str, then: Callable[[str], None], empty: bool = False) -> None:
        """Have a line typed."""
        from keel.app.dialogs.ask_text import AskText

        self.open(AskText(title, hint, proposal, empty), then)

    def choose(
        self,
        title: str,
        choices: Sequence[Choice] | Callable[[], Sequence[Choice]],
        then: Callable[[str], None],
        left: Callable[[], None] = lambda: None,
    ) -> None:
        """Have one chosen."""
        from keel.app.dialogs.choose import Choose

        screen = Choose(title, None if callable(choices) else choices)
        self.open(screen, then, left)
        if callable(choices):
            look_up = choices
            self._app.behind(lambda _: look_up(), screen.fill)
