"""Bench: make it happen. The ferry's controls and faults, and what she says meanwhile."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from textual import events
from textual.message import Message

from keel.app.desk.picture import Picture
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.strokes import bar
from keel.app.views.bench.sketch import ROWS, sketch
from keel.bench.controls import CONTROLS, Control
from keel.errors import ControlError

TITLE, CHOICES = 4, 32
SAYS = (
    ("HelmCommand", "lever"),
    ("HelmCommand", "wheel"),
    ("SteeringAngle", "rudder"),
    ("PodPortFeedback", "speed"),
    ("PodStarFeedback", "speed"),
    ("ThrusterState", "speed"),
    ("ThrusterState", "current"),
    ("Position", "speed"),
    ("Position", "heading"),
    ("PackOneStatus", "charge"),
    ("PackTwoStatus", "temperature"),
    ("TrimTabs", "port"),
    ("BilgeLevels", "fore"),
    ("BilgeLevels", "pump"),
    ("GensetSpeed", "power"),
    ("CabinClimate", "temperature"),
    ("DoorSwitches", "fore"),
)


def _believed(settings: Mapping[str, Any]) -> dict[str, str]:
    """Of what a recorder says of the controls, all that can be."""
    found = {}
    for control in CONTROLS:
        if control.name in settings:
            with suppress(ControlError):
                found[control.name] = control.check(str(settings[control.name]))
    return found


class Bench(Sheet):
    """The view."""

    @dataclass
    class Worked(Message):
        """A control was worked."""

        name: str
        value: str

    def __init__(self) -> None:
        super().__init__(id="bench")
        self.picture: Picture | None = None
        self._cursor = 0
        self._settings: dict[str, str] = {}
        self._asked: dict[str, str] = {}
        self._places: dict[int, list[tuple[int, int, str]]] = {}
        self._rows: dict[int, int] = {}

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        self._settings = _believed(picture.status.controls if picture.status else {})
        # What was asked shows at once; it is forgotten when the bench says the same.
        self._asked = {n: v for n, v in self._asked.items() if self._settings.get(n) != v}
        self.repaint()

    def _value(self, control: Control) -> str:
        return self._asked.get(control.name, self._settings.get(control.name, control.default))

    @property
    def _there(self) -> bool:
        return bool(self._settings)

    def paint(self, width: int, height: int) -> list[Line]:
        """Controls on the left, what the ferry says on the right."""
        style = self.palette.style
        lines = [self.line(width) for _ in range(max(height, 4))]
        if not self._there:
            lines[2].put(4, "No bench is being recorded here.", style("text"))
            lines[3].put(4, "keel demo sails the ferry Tern; its controls appear in this place.", style("dim"))
            return lines
        left = min(max(width * 60 // 100, 70), 96) if width >= 120 else width
        row = 0
        self._places, self._rows = {}, {}
        for group, title in (("device", "aboard the ferry Tern"), ("fault", "faults that can be set")):
            if row:
                row += 1
            if row < height:
                lines[row].put(2, title, style("dim"))
            row += 1
            for number, control in enumerate(CONTROLS):
                if control.group == group and row < height:
                    self._control(lines[row], row, number, control, left)
                    row += 1
        if row + 1 < height:
            hint = "m before you work something and m after it flag the marks that Hunt follows"
            lines[row + 1].put(2, hint, style("dim"), left - 3)
        if row + 3 + ROWS <= height:
            settings = {control.name: self._value(control) for control in CONTROLS}
            for line, drawn in zip(lines[height - ROWS :], sketch(self.palette, settings), strict=False):
                line.paste(6, drawn)
        if left < width:
            self._says(lines, left, width, height)
        return lines

    def _control(self, line: Line, row: int, number: int, control: Control, width: int) -> None:
        style = self.palette.style
        picked = number == self._cursor
        on = "raised" if picked else "ink"
        if picked:
            line.ground(style("text", on), 0, width - 2)
            line.put(0, "▌", style("brass", on))
        line.put(TITLE, control.title, style("text", on), CHOICES - TITLE - 1)
        self._rows[row] = number
        value = self._value(control)
        places = []
        at = CHOICES
        for choice in control.choices or self._numbers(control, value):
            chosen = choice == value or (not control.choices and choice not in ("auto", "−", "+"))
            if control.momentary and choice == control.default:
                continue
            text = f" {choice} "
            role = style("ink", "brass", True) if chosen and not control.momentary else style("text", "line")
            if not control.choices and choice == value and value == "auto":
                role = style("ink", "brass", True)
            places.append((at, at + len(text), choice))
            at = line.put(at, text, role) + 1
        if not control.choices and value != "auto":
            share = (float(value) - control.low) / (control.high - control.low)
            line.put(at + 1, bar(share, 10), style("sea", on))
            at += 12
        self._places[row] = places
        if at + 3 < width - 4:
            line.put(
                max(at + 2, CHOICES + 28),
                control.words,
                style("dim", on),
                width - 3 - max(at + 2, CHOICES + 28),
            )

    def _numbers(self, control: Control, value: str) -> tuple[str, ...]:
        shown = ("−", value, "+") if value != "auto" else ("−", "+")
        return (*(("auto",) if control.auto else ()), *shown)

    def _says(self, lines: list[Line], left: int, width: int, height: int) -> None:
        style = self.palette.style
        picture = self.picture
        if picture is None:
            return
        for line in lines:
            line.put(left - 1, "│", style("line"))
        lines[0].put(left + 2, "what she says of herself", style("dim"))
        row = 1
        by_name = {m.name: key for key, m in picture.messages.items()}
        for message_name, signal_name in SAYS:
            key = by_name.get(message_name)
            tally = picture.census.get(key) if key is not None else None
            if key is None or tally is None or row >= height:
                continue
            signal = next((s for s in picture.messages[key].signals if s.name == signal_name), None)
            if signal is None:
                continue
            value = signal.words(tally.payload) or "—"
            lines[row].put(left + 2, f"{message_name}", style("dim"), 18)
            lines[row].put(left + 21, signal_name, style("sea"), 14)
            lines[row].put(left + 36, value, style("strong", bold=True), width - left - 37)
            row += 1

    # What people do here.

    def _work(self, control: Control, value: str) -> None:
        try:
            value = control.check(value)
        except ValueError:
            return
        if not control.momentary:
            self._asked[control.name] = value
        self.post_message(self.Worked(control.name, value))
        self.repaint()

    def _turn(self, by: int) -> None:
        if not self._there:
            return
        control = CONTROLS[self._cursor]
        value = self._value(control)
        if control.momentary:
            self._work(control, next(c for c in control.choices if c != control.default))
        elif control.choices:
            at = control.choices.index(value) + by
            if 0 <= at < len(control.choices):
                self._work(control, control.choices[at])
        elif value == "auto":
            self._work(control, f"{(control.low + control.high) / 2:g}")
        else:
            wanted = float(value) + by * control.step
            if wanted < control.low and control.auto:
                self._work(control, "auto")
            else:
                self._work(control, f"{min(max(wanted, control.low), control.high):g}")

    def do_left(self) -> None:
        """The value before."""
        self._turn(-1)

    def do_right(self) -> None:
        """The next value."""
        self._turn(1)

    def do_change(self) -> None:
        """The next value, from the last to the first again."""
        control = CONTROLS[self._cursor]
        if control.choices and not control.momentary and self._there:
            at = control.choices.index(self._value(control))
            self._work(control, control.choices[(at + 1) % len(control.choices)])
        else:
            self._turn(1)

    def do_up(self) -> None:
        """The control above."""
        self._cursor = max(self._cursor - 1, 0)
        self.repaint()

    def do_down(self) -> None:
        """The control below."""
        self._cursor = min(self._cursor + 1, len(CONTROLS) - 1)
        self.repaint()

    def on_click(self, event: events.Click) -> None:
        """Work what was clicked."""
        if event.y not in self._rows:
            return
        self._cursor = self._rows[event.y]
        control = CONTROLS[self._cursor]
        for start, end, choice in self._places.get(event.y, []):
            if start <= event.x < end:
                if choice in ("−", "+"):
                    self._turn(-1 if choice == "−" else 1)
                else:
                    self._work(control, choice)
        self.repaint()
