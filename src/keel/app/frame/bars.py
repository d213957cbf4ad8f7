"""The row of view names, the ask line, the key line."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from rich.highlighter import Highlighter
from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.containers import Horizontal
from textual.message import Message
from textual.widgets import Input

from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.app.shared.actions import Action, actions_in
from keel.app.shared.asks import remembered
from keel.app.shared.state import VIEWS

_WORD = re.compile(r'"(?:[^"\\]|\\.)*"?|[^\s()]+')


class ViewBar(Sheet):
    """The names of the views, one row."""

    DEFAULT_CSS = "ViewBar { height: 1; }"

    @dataclass
    class Chosen(Message):
        """A view was clicked."""

        view: str

    def __init__(self) -> None:
        super().__init__(id="views")
        self.view = ""
        self._places: list[tuple[int, int, str]] = []

    def show(self, view: str) -> None:
        """Say which view is open."""
        self.view = view
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The row."""
        style = self.palette.style
        line = self.line(width, "panel")
        at, self._places = 1, []
        for view, (key, title) in VIEWS.items():
            text = f" {key} {title} "
            start = at
            if view == self.view:
                at = line.put(at, text, style("ink", "brass", True)) + 1
            else:
                at = line.put(at, f" {key}", style("brass", "panel"))
                at = line.put(at, f" {title} ", style("dim", "panel")) + 1
            self._places.append((start, at, view))
        return [line]

    def on_click(self, event: events.Click) -> None:
        """Open the clicked view."""
        for start, end, view in self._places:
            if start <= event.x < end:
                self.post_message(self.Chosen(view))


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


class AskInput(Input):
    """The text. Enter is answered at once, so that no key after it goes astray; tab completes, ↑ ↓ go through asks
    entered before."""

    async def on_key(self, event: events.Key) -> None:
        """Keys that a line of text would not take."""
        line = self.parent
        if isinstance(line, AskLine) and line.typing and event.key in ("tab", "up", "down"):
            event.stop()
            event.prevent_default()
            if event.key == "tab":
                line.complete()
            else:
                line.recall(1 if event.key == "up" else -1)

    async def action_submit(self) -> None:
        """Hand the text to the line it stands in."""
        if isinstance(self.parent, AskLine):
            self.parent.enter()


class AskLine(Horizontal):
    """The ask, typed and answered."""

    DEFAULT_CSS = """
    AskLine { height: 1; background: $panel; }
    AskLine Tag { width: 6; height: 1; }
    AskLine Result { width: 1fr; height: 1; }
    AskLine Input { height: 1; border: none; padding: 0; background: $panel; color: $foreground; width: 2; }
    AskLine Input:focus { border: none; }
    """

    @dataclass
    class Asked(Message):
        """An ask was entered."""

        text: str

    @dataclass
    class Left(Message):
        """Typing ended."""

    def __init__(
        self,
        complaint: Callable[[str], str | None],
        completions: Callable[[str], list[str]] = lambda _: [],
        place: Callable[[str], int | None] = lambda _: None,
    ) -> None:
        """``complaint`` says what is wrong with a text, or None; ``completions`` what it could become; ``place``
        where it is wrong."""
        super().__init__(id="asking")
        self._ask = ""
        self._completions, self._place = completions, place
        self.pointer = Pointer()
        self._asked: list[str] = []
        self._recalled, self._typed = -1, ""
        self._complaint = complaint
        self.input = AskInput(
            id="ask",
            compact=True,
            highlighter=self.pointer,
            placeholder='id:1A0,220   bus:a   fault   gap>120ms   bytes:"5E ??"',
        )
        self.input.can_focus = False
        self.result = Result()

    def compose(self) -> ComposeResult:
        """Word, text, answer."""
        yield Tag()
        yield self.input
        yield self.result

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
        self.input.placeholder = 'id:1A0,220   bus:a   fault   gap>120ms   bytes:"5E ??"'
        self.input.styles.width = max(min(self.size.width * 6 // 10, 80), 30)
        self._asked, self._recalled = remembered(), -1
        self.input.focus()

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
        self.post_message(self.Left())

    def on_input_changed(self, event: Input.Changed) -> None:
        """Check while typing."""
        event.stop()
        if self.typing:
            complaint = self._complaint(event.value)
            found = [text[len(text) - len(text.split(" ")[-1]) :] for text in self._completions(event.value)]
            more = "tab " + "  ".join(found) if found and event.value else ""
            self.pointer.at = self._place(event.value) if complaint else None
            if complaint:
                self.result.say(f"{complaint}   {more}", "coral")
            else:
                self.result.say(f"enter searches   {more}", "dim")

    def enter(self) -> None:
        """Take the text, unless something is wrong with it."""
        text = self.input.value.strip()
        complaint = self._complaint(text)
        if complaint:
            self.result.say(complaint, "coral")
            self.app.bell()
            return
        self.end()
        self.post_message(self.Asked(text))

    def on_key(self, event: events.Key) -> None:
        """Escape gives up."""
        if event.key == "escape" and self.typing:
            event.stop()
            self.end()

    def on_click(self, event: events.Click) -> None:
        """A click begins to type."""
        if not self.typing:
            self.begin()


class KeyLine(Sheet):
    """The keys that do something here, now."""

    DEFAULT_CSS = "KeyLine { height: 1; }"

    @dataclass
    class Pressed(Message):
        """A key's words were clicked."""

        action: Action

    def __init__(self) -> None:
        super().__init__(id="keys")
        self._view, self._typing = "", False
        self._places: list[tuple[int, int, Action]] = []

    def show(self, view: str, typing: bool) -> None:
        """Say which keys count now."""
        if (view, typing) != (self._view, self._typing):
            self._view, self._typing = view, typing
            self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The keys, as many as fit; the guide always."""
        style = self.palette.style
        line = self.line(width, "panel")
        self._places = []
        if self._typing:
            at = line.put(1, "enter", style("brass", "panel", True)) + 1
            at = line.put(at, "search", style("dim", "panel")) + 3
            at = line.put(at, "esc", style("brass", "panel", True)) + 1
            at = line.put(at, "leave as it was", style("dim", "panel")) + 3
            at = line.put(at, "tab", style("brass", "panel", True)) + 1
            at = line.put(at, "complete", style("dim", "panel")) + 3
            at = line.put(at, "↑ ↓", style("brass", "panel", True)) + 1
            line.put(at, "asks entered before", style("dim", "panel"))
            return [line]
        shown = [a for a in actions_in(self._view) if a.word]
        while shown and 1 + sum(len(a.shown) + len(a.word) + 4 for a in shown) > width:
            droppable = [a for a in shown if a.name not in ("guide", "quit", "mark", "ask", "back")]
            if not droppable:
                break
            shown.remove(droppable[-1])
        at = 1
        for action in shown:
            start = at
            at = line.put(at, action.shown, style("brass", "panel", True)) + 1
            at = line.put(at, action.word, style("dim", "panel")) + 3
            self._places.append((start, at - 2, action))
        return [line]

    def on_click(self, event: events.Click) -> None:
        """Do what was clicked."""
        for start, end, action in self._places:
            if start <= event.x < end:
                self.post_message(self.Pressed(action))


def result_words(
    total: int, in_lens: int, rank: int | None, asked: bool, lens: bool, following: bool = False, looked: float = 1.0
) -> str:
    """How many match in all and in the lens, and where the pick stands among them; how much is looked at yet."""
    text = f"{words.count(total)} frames" if asked else f"everything · {words.count(total)} frames"
    if lens:
        text += f" · {words.count(in_lens)} in lens"
    if rank is not None:
        text += f" · frame {words.count(rank + 1)} of {words.count(in_lens)}"
    if looked < 1:
        text += f" so far · {looked:.0%} looked at"
    if following:
        text += " · following the newest"
    return text
