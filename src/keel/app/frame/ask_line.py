"""The ask line: the ask, typed and answered, and what it found."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from rich.highlighter import Highlighter
from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.widgets import Input

from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.app.shared.asks import remember, remembered
from keel.errors import AskError

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.ask.nodes import Scene

EXAMPLES = 'id:1A0,220   bus:a   fault   gap>120ms   bytes:"5E ??"'
_WORD = re.compile(r'"(?:[^"\\]|\\.)*"?|[^\s()]+')


class Result(Sheet):
    """What the ask found, or what is wrong with it."""

    def __init__(self) -> None:
        super().__init__(id="result")
        self._text, self._role = "", "dim"

    def say(self, text: str, role: str = "dim") -> None:
        """Show a sentence."""
        if (text, role) != (self._text, self._role):
            self._text, self._role = text, role
            self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The sentence."""
        line = self.line(width, "panel")
        line.put(2, self._text, self.palette.style(self._role, "panel"), max(width - 2, 0))
        return [line]


class Tag(Sheet):
    """The word before the ask."""

    def paint(self, width: int, height: int) -> list[Line]:
        """The word."""
        line = self.line(width, "panel")
        line.put(0, " ask ", self.palette.style("ink", "slate", True))
        return [line]


class Pointer(Highlighter):
    """Underlines an ask from where it is wrong.

    Attributes:
        at: Where that is, None if nothing is.
    """

    at: int | None = None

    def highlight(self, text: Text) -> None:
        """Mark what cannot be understood."""
        if self.at is not None and text.plain:
            start = min(self.at, len(text.plain) - 1)
            word = _WORD.match(text.plain, start)
            text.stylize("bold underline #f0716a", start, word.end() if word else start + 1)


class AskLine(Horizontal):
    """The ask, typed and answered."""

    DEFAULT_CSS = """
    AskLine { height: 1; background: $panel; }
    AskLine Tag { width: 6; height: 1; }
    AskLine Result { width: 1fr; height: 1; }
    AskLine Input { height: 1; border: none; padding: 0; background: $panel; color: $foreground; width: 2; }
    AskLine Input:focus { border: none; }
    """

    def __init__(
        self,
        names: Callable[[], tuple[Scene | None, tuple[int, ...]]],
        asked: Callable[[str], None],
        left: Callable[[], None],
    ) -> None:
        """An empty line.

        Args:
            names: Gives the names and identifiers there are, to check against.
            asked: Takes an ask that was entered.
            left: Called when typing ends.
        """
        super().__init__(id="asking")
        self._names, self._on_ask, self._on_left = names, asked, left
        self._ask = ""
        self.pointer = Pointer()
        self._asked: list[str] = []
        self._remembered: list[str] = []
        self._recalled, self._typed = -1, ""
        self.input = Input(
            id="ask",
            compact=True,
            select_on_focus=False,
            highlighter=self.pointer,
            placeholder=EXAMPLES,
        )
        self.input.can_focus = False
        self.result = Result()

    def compose(self) -> ComposeResult:
        """Word, text, answer."""
        yield Tag()
        yield self.input
        yield self.result

    def on_mount(self) -> None:
        """Look up what was asked before, behind the first screen."""
        self.run_worker(self._look_up, thread=True, group="settings")

    def _look_up(self) -> None:
        self._remembered = remembered()

    @property
    def typing(self) -> bool:
        """Whether the text is being edited."""
        return self.input.can_focus

    def show(self, ask: str) -> None:
        """Show the ask in force, unless another is being typed."""
        self._ask = ask
        if not self.typing:
            self.input.value = ask
            self.input.styles.width = max(len(ask) + 1, 2)
            self.input.placeholder = ""

    def begin(self) -> None:
        """Start typing."""
        self.input.can_focus = True
        self.input.placeholder = EXAMPLES
        self.input.styles.width = max(min(self.size.width * 6 // 10, 80), 30)
        self._asked, self._recalled = self._remembered, -1
        # At once, and not when there is time for it: the next key is of the ask already.
        self.screen.set_focus(self.input)
        self.input.action_select_all()

    def complete(self) -> None:
        """Take the likeliest completion."""
        found = self._completions(self.input.value)
        if found:
            self.input.value = found[0]
            self.input.cursor_position = len(found[0])

    def recall(self, by: int) -> None:
        """An ask entered before, further back or nearer."""
        if self._recalled < 0:
            self._typed = self.input.value
        self._recalled = min(max(self._recalled + by, -1), len(self._asked) - 1)
        text = self._typed if self._recalled < 0 else self._asked[self._recalled]
        self.input.value = text
        self.input.cursor_position = len(text)

    def end(self) -> None:
        """Stop typing; what is in force is shown again."""
        self.input.can_focus = False
        self.screen.set_focus(None)
        self.show(self._ask)
        self._on_left()

    def _error_in(self, text: str) -> AskError | None:
        from keel.ask.language import parse

        try:
            parse(text, self._names()[0])
        except AskError as error:
            return error
        return None

    def _completions(self, text: str) -> list[str]:
        from keel.ask.completion import complete

        return complete(text, *self._names())

    def on_input_changed(self, event: Input.Changed) -> None:
        """Check while typing."""
        event.stop()
        if self.typing:
            error = self._error_in(event.value)
            found = [text[len(text) - len(text.split(" ")[-1]) :] for text in self._completions(event.value)]
            more = "tab " + "  ".join(found) if found and event.value else ""
            self.pointer.at = error.position if error is not None else None
            if error is not None:
                self.result.say(f"{error}   {more}", "coral")
            else:
                self.result.say(f"enter searches   {more}", "dim")

    def enter(self) -> None:
        """Take the text, unless something is wrong with it."""
        text = self.input.value.strip()
        error = self._error_in(text)
        if error is not None:
            self.result.say(str(error), "coral")
            self.app.bell()
            return
        self.end()
        if text:
            self.run_worker(lambda: remember(text), thread=True, group="settings")
            self._remembered = [text, *(old for old in self._remembered if old != text)]
        self._on_ask(text)

    async def take(self, key: events.Key) -> None:
        """Take a key, and be done with it before the next one comes."""
        deeds: dict[str, Callable[[], None]] = {
            "enter": self.enter,
            "escape": self.end,
            "tab": self.complete,
            "up": lambda: self.recall(1),
            "down": lambda: self.recall(-1),
        }
        if key.key in deeds:
            deeds[key.key]()
        elif key.is_printable and key.character is not None:
            self.input.replace(key.character, *sorted(self.input.selection))
        else:
            for binding in self.input._bindings.key_to_bindings.get(key.key, ()):
                await self.app.run_action(binding.action, self.input)

    def on_click(self, event: events.Click) -> None:
        """A click begins to type."""
        if not self.typing:
            self.begin()


def result_words(picture: Picture, standing: tuple[str, ...]) -> str:
    """How many frames match in all and in the lens, how much is looked at yet, and what the view says besides."""
    matches = picture.matches
    said = [f"{words.count(matches.total)} frames"]
    if not picture.wish.ask:
        said.insert(0, "everything")
    if picture.wish.lens is not None:
        said.append(f"{words.count(len(matches))} in lens")
    said += standing
    text = " · ".join(said)
    return text if matches.looked >= 1 else f"{text} so far · {matches.looked:.0%} looked at"
