"""Small windows: save something, name a signal, read the guide."""

from __future__ import annotations

from dataclasses import dataclass

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from keel.app.shared.actions import ACTIONS
from keel.app.shared.state import VIEWS
from keel.model.safe_text import plain

BOX = """
    align: center middle;
    background: $background 60%;
"""


@dataclass(frozen=True)
class Offer:
    """Something that can be saved: its kind, words, and the name proposed."""

    kind: str
    words: str
    path: str


class Export(ModalScreen[tuple[str, str] | None]):
    """What to save and where. Gives back kind and path."""

    DEFAULT_CSS = (
        "Export {"
        + BOX
        + """}
    Export Vertical { width: 84; height: auto; max-height: 80%; background: $panel; padding: 1 3; }
    Export OptionList { height: auto; max-height: 10; border: none; background: $panel; padding: 0; margin: 1 0; }
    Export OptionList:focus { border: none; }
    Export Input { border: none; height: 1; padding: 0; background: $background; }
    Export .dim { color: #6b7a88; }
    """
    )
    BINDINGS = [Binding("escape", "leave", show=False)]

    def __init__(self, offers: list[Offer]) -> None:
        super().__init__()
        self._offers = offers

    def compose(self) -> ComposeResult:
        """The offers, and the path."""
        with Vertical():
            yield Static("save", markup=False)
            yield OptionList(*(Option(Text(plain(o.words)), id=o.kind) for o in self._offers))
            yield Static("to this file; an ending of .svg or .pdf says which", classes="dim", markup=False)
            yield Input(self._offers[0].path, id="path", compact=True)
            yield Static("↑ ↓ what    tab path    enter save    esc leave", classes="dim", markup=False)

    def on_option_list_option_highlighted(self, event: OptionList.OptionHighlighted) -> None:
        """Propose a name that fits."""
        self.query_one(Input).value = self._offers[event.option_index].path

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Save this."""
        self.dismiss((self._offers[event.option_index].kind, self.query_one(Input).value))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Save what is chosen."""
        chosen = self.query_one(OptionList).highlighted or 0
        self.dismiss((self._offers[chosen].kind, event.value))

    def action_leave(self) -> None:
        """Save nothing."""
        self.dismiss(None)


class AskName(ModalScreen[str | None]):
    """Asks for one line. Gives it back, or None."""

    DEFAULT_CSS = (
        "AskName {"
        + BOX
        + """}
    AskName Vertical { width: 92; height: auto; background: $panel; padding: 1 3; }
    AskName Input { border: none; height: 1; padding: 0; background: $background; margin: 1 0; }
    AskName .dim { color: #6b7a88; }
    """
    )
    BINDINGS = [Binding("escape", "leave", show=False)]

    def __init__(self, title: str, hint: str, proposal: str, empty: bool = False) -> None:
        """With ``empty``, an empty line is an answer too."""
        super().__init__()
        self._title, self._hint, self._proposal, self._empty = title, hint, proposal, empty

    def compose(self) -> ComposeResult:
        """The question and the answer."""
        with Vertical():
            yield Static(plain(self._title), markup=False)
            yield Input(self._proposal, id="name", max_length=200, compact=True)
            yield Static(plain(self._hint), classes="dim", markup=False)

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Take it."""
        text = event.value.strip()
        self.dismiss(text if text or self._empty else None)

    def action_leave(self) -> None:
        """Leave it."""
        self.dismiss(None)


@dataclass(frozen=True)
class Choice:
    """Something to choose: what is given back, and its words."""

    value: str
    words: str


class Choose(ModalScreen[str | None]):
    """A list to choose from. Gives back the value, or None."""

    DEFAULT_CSS = (
        "Choose {"
        + BOX
        + """}
    Choose Vertical { width: 92; height: auto; max-height: 80%; background: $panel; padding: 1 3; }
    Choose OptionList { height: auto; max-height: 20; border: none; background: $panel; padding: 0; margin: 1 0; }
    Choose OptionList:focus { border: none; }
    Choose .dim { color: #6b7a88; }
    """
    )
    BINDINGS = [Binding("escape,q", "leave", show=False)]

    def __init__(self, title: str, choices: list[Choice]) -> None:
        super().__init__()
        self._title, self._choices = title, choices

    def compose(self) -> ComposeResult:
        """The list."""
        with Vertical():
            yield Static(plain(self._title), markup=False)
            yield OptionList(*(Option(Text(plain(c.words))) for c in self._choices))
            yield Static("↑ ↓ choose    enter take    esc leave", classes="dim", markup=False)

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Take it."""
        self.dismiss(self._choices[event.option_index].value)

    def action_leave(self) -> None:
        """Take none."""
        self.dismiss(None)


QUESTIONS = {
    "watch": "Who talks, and what just moved? A row for each identifier; bytes glow when they are fresh.",
    "frames": "What happened, in order? What ask and lens leave, one frame taken apart.",
    "health": "What is wrong on the line? Load, faults with a jump to each, cycle times and who stopped.",
    "hunt": "Which field carries it? Marks, readings, a log, a value, good against bad, or nothing at all.",
    "values": "What do the devices say? Decoded signals; enter draws one, c sets cursors to measure between.",
    "compare": "What is different? Two recordings, or two spans: ranked, with a jump to both sides.",
    "bench": "Make it happen: the simulated ferry's controls, and faults to set.",
}
SHARED = (
    ("lens", "the window of time being looked at: drag on the tape, or [ ] + - 0"),
    ("ask", "the condition frames must meet: /"),
    ("pick", "the identifier, field or frame in hand: ↑ ↓ or a click"),
    ("mark", "a moment you flagged: m"),
)
ASKS = (
    ("id:1A0  id:1A0..1AF  id:18FE??17", "identifiers: one, a range, with any digit; id:1A0,220 for several"),
    ("id:none", "frames without an identifier, as error frames"),
    ('name:Pack*  bus:a  bus:"engine bus"', "message names and buses; * and ? for what may vary, quotes where needed"),
    ("dir:tx", "direction: rx or tx"),
    ('len>8  bytes:"5E ?? 04"  bytes@2:FF', "payload: its length, bytes anywhere, bytes in one place"),
    ('text:"ready"', 'text in the payload, in any case (exactly so: bytes:"72 65 61 64 79")'),
    ("fault  fault:crc,ack", "faulty frames, or some classes"),
    ("moved  moved@3  bit@17:1", "the payload changed, byte 3 of it did, a bit stands so"),
    ("near(fault within 50ms)", "what happened about it"),
    ("fault then id:220 within 50ms", "the second, if the first was shortly before"),
    ("gap>120ms  step<50us", "time since the same identifier, since the frame before"),
    ("Pack*.temp>=55  Mode.gear=reverse", 'a signal\'s value or text, or ="not available", =error'),
    ("rises:Pump.on  becomes:Mode.gear=3", "a signal changes: rises, falls, changes, becomes"),
    ("at:12.5s..13.1s", "time since the recording's start"),
    ("id:220 not fault or (bus:b len<8)", "side by side means and; or, not, parentheses"),
)


def guide_text() -> str:
    """The guide, made from the actions."""
    parts = ["Four things every view shares; change one and all views follow. ⌫ takes changes back.", ""]
    parts += [f"  {name:8}{text}" for name, text in SHARED]
    parts += ["", "Views"]
    parts += [f"  {key}  {title:8}{QUESTIONS[view]}" for view, (key, title) in VIEWS.items()]
    parts += ["", "Keys"]
    for action in ACTIONS:
        where = "" if len(action.views) == len(VIEWS) else f"  ({', '.join(VIEWS[v][1] for v in action.views)})"
        parts.append(f"  {action.shown:8}{action.help}{where}")
    parts += ["  ctrl+p  Every action by name", "", "The ask"]
    parts += [f"  {example:40}{text}" for example, text in ASKS]
    parts += [
        "",
        "In narrow windows columns drop in this order",
        "  Watch   kept signals, activity, moved, jitter, frames, cycle, name",
        "  Frames  the times not chosen, direction, name, kept signals, bus, number, length",
    ]
    return "\n".join(parts)


class Guide(ModalScreen[None]):
    """Views, keys and the ask, explained."""

    DEFAULT_CSS = (
        "Guide {"
        + BOX
        + """}
    Guide VerticalScroll { width: 116; max-width: 96%; height: 90%; background: $panel; padding: 1 3; }
    """
    )
    BINDINGS = [Binding("escape,q,question_mark", "leave", show=False)]

    def compose(self) -> ComposeResult:
        """The text."""
        with VerticalScroll():
            yield Static(guide_text(), markup=False)

    def on_mount(self) -> None:
        """Keys scroll it."""
        self.query_one(VerticalScroll).border_title = "guide"
        self.query_one(VerticalScroll).focus()

    def action_leave(self) -> None:
        """Close it."""
        self.dismiss(None)
