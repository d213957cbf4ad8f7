"""The Bench view: what can be worked on the source that is recorded, and what comes meanwhile."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace

from keel.app.desk.deeds import make_quietly
from keel.app.desk.edits import begin_try
from keel.app.frame.action import Action
from keel.app.frame.helm import Helm, Here
from keel.app.frame.steering import NEW_TRY
from keel.app.frame.view import View
from keel.app.paint.canvas import Line
from keel.app.paint.strokes import bar
from keel.app.views.bench.choices import Asked, BenchChoices
from keel.app.views.bench.panel import choices_of, groups_of, is_ferry, panel_of, value_of
from keel.app.views.bench.probing import probe_line
from keel.app.views.bench.sketch import ROWS, sketch
from keel.bench.controls import Control
from keel.errors import ControlError

TITLE, CHOICES = 4, 32
FAULT = "fault-"
"""Controls called so inject faults: nothing is tried with them."""
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


@dataclass(frozen=True)
class Layout:
    """Where everything stands: the row of each control, what lies below them, how wide they are."""

    rows: dict[int, int]
    titles: dict[int, str]
    end: int
    width: int


class Bench(View):
    """The view."""

    def __init__(self) -> None:
        self.actions = (
            Action(("up", "k"), "↑", "", "The control above", lambda helm: self.move(helm, -1)),
            Action(("down", "j"), "↓", "", "The control below", lambda helm: self.move(helm, 1)),
            Action(("left",), "←", "", "The value before", lambda helm: self._turn(helm, -1)),
            Action(("right",), "→", "", "The next value", lambda helm: self._turn(helm, 1)),
            Action(("enter",), "← →", "operate", "Operate the control", self.next_value),
            Action(("p",), "p", "probe", "Probe a line aboard, and look at its waveform", probe_line),
            NEW_TRY,
        )

    # Where everything stands.

    def _layout(self, here: Here) -> Layout:
        width = min(max(here.width * 60 // 100, 70), 96) if here.width >= 120 else here.width
        rows, titles, row = {}, {}, 0
        controls = panel_of(here)
        for group, title in groups_of(controls):
            row += 1 if row else 0
            titles[row] = title
            row += 1
            for number, control in enumerate(controls):
                if control.group == group:
                    rows[row] = number
                    row += 1
        return Layout(rows, titles, row, width)

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Controls on the left; of the ferry, what she sends on the right."""
        lines = [here.line() for _ in range(max(here.height, 4))]
        controls = panel_of(here)
        if not controls:
            lines[2].put(4, "Nothing that can be worked is being recorded here.", here.style("text"))
            lines[3].put(4, "keel demo sails the ferry Tern; its controls appear in this place.", here.style("dim"))
            return lines
        layout, cursor = self._layout(here), min(here.state.of(BenchChoices).cursor, len(controls) - 1)
        for row, title in layout.titles.items():
            if row < here.height:
                lines[row].put(2, title, here.style("dim"))
        for row, number in layout.rows.items():
            if row < here.height:
                _paint_control(here, lines[row], controls[number], number == cursor, layout.width)
        if layout.end + 1 < here.height:
            hint = "m before you operate something and m after it flag the marks that Hunt follows"
            lines[layout.end + 1].put(2, hint, here.style("dim"), layout.width - 3)
        if is_ferry(controls) and layout.end + 2 + ROWS <= here.height:
            shown = {control.name: value_of(here, control) for control in controls}
            for line, drawn in zip(lines[here.height - ROWS :], sketch(here.palette, shown), strict=False):
                line.paste(6, drawn)
        if is_ferry(controls) and layout.width < here.width:
            _says(here, lines, layout.width)
        return lines

    # What people do here.

    def move(self, helm: Helm, by: int) -> None:
        """Another control."""
        choices = helm.state.of(BenchChoices)
        cursor = min(max(choices.cursor + by, 0), max(len(panel_of(helm.here)) - 1, 0))
        helm.change("control", helm.state.having(replace(choices, cursor=cursor)), joins=True)

    def _operate(self, helm: Helm, control: Control, value: str) -> None:
        """Ask the recorder to operate a control; marks about it are of a try of its own. The world takes no undo."""
        try:
            value = control.check(value)
        except ControlError:
            return
        state, name, folder = helm.state, control.name, helm.here.picture.wish.folder
        if name != state.attempt and not name.startswith(FAULT):
            make_quietly(helm.submit, folder, begin_try(name, state.attempt))
            state = replace(state, attempt=name)
        if not control.momentary:
            asked = tuple(a for a in state.of(BenchChoices).asked if a.name != name)
            asked = (*asked, Asked(name, value, time.monotonic()))
            state = state.having(replace(state.of(BenchChoices), asked=asked))
        helm.quietly(state)

        def ask() -> None:
            from keel.store.control import ask_control

            ask_control(folder, name, value)

        helm.submit(ask)

    def _in_hand(self, helm: Helm) -> Control | None:
        controls = panel_of(helm.here)
        return controls[min(helm.state.of(BenchChoices).cursor, len(controls) - 1)] if controls else None

    def _turn(self, helm: Helm, by: int) -> None:
        control = self._in_hand(helm)
        if control is None:
            return
        value = value_of(helm.here, control)
        if control.momentary:
            self._operate(helm, control, next(c for c in control.choices if c != control.default))
        elif control.choices:
            at = control.choices.index(value) + by
            if 0 <= at < len(control.choices):
                self._operate(helm, control, control.choices[at])
        elif value == "auto":
            self._operate(helm, control, f"{(control.low + control.high) / 2:g}")
        else:
            wanted = float(value) + by * control.step
            if wanted < control.low and control.auto:
                self._operate(helm, control, "auto")
            else:
                self._operate(helm, control, f"{min(max(wanted, control.low), control.high):g}")

    def next_value(self, helm: Helm) -> None:
        """The next value, from the last to the first again."""
        control = self._in_hand(helm)
        if control is not None and control.choices and not control.momentary:
            at = control.choices.index(value_of(helm.here, control))
            self._operate(helm, control, control.choices[(at + 1) % len(control.choices)])
        else:
            self._turn(helm, 1)

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """Operate what was clicked."""
        number = self._layout(helm.here).rows.get(y)
        if number is None:
            return
        control = panel_of(helm.here)[number]
        helm.quietly(helm.state.having(replace(helm.state.of(BenchChoices), cursor=number)))
        for start, end, choice in _places(helm.here, control):
            if start <= x < end:
                if choice in ("−", "+"):
                    self._turn(helm, -1 if choice == "−" else 1)
                else:
                    self._operate(helm, control, choice)

    def wheel(self, helm: Helm, by: int) -> None:
        """Another control."""
        self.move(helm, 1 if by > 0 else -1)


def _places(here: Here, control: Control) -> list[tuple[int, int, str]]:
    """Where the values to choose from stand: from, up to, which."""
    places, at = [], CHOICES
    for choice in choices_of(control, value_of(here, control)):
        places.append((at, at + len(choice) + 2, choice))
        at += len(choice) + 3
    return places


def _paint_control(here: Here, line: Line, control: Control, in_hand: bool, width: int) -> None:
    style, value = here.style, value_of(here, control)
    on = "raised" if in_hand else "ink"
    if in_hand:
        line.ground(style("text", on), 0, width - 2)
        line.put(0, "▌", style("brass", on))
    line.put(TITLE, control.title, style("text", on), CHOICES - TITLE - 1)
    at = CHOICES
    for start, end, choice in _places(here, control):
        chosen = choice == value and not control.momentary
        line.put(start, f" {choice} ", style("ink", "brass", True) if chosen else style("text", "line"))
        at = end + 1
    if not control.choices and value != "auto":
        share = (float(value) - control.low) / (control.high - control.low)
        line.put(at + 1, bar(share, 10), style("sea", on))
        at += 12
    start = max(at + 2, CHOICES + 28)
    if at + 3 < width - 4:
        line.put(start, control.words, style("dim", on), width - 3 - start)


def _says(here: Here, lines: list[Line], left: int) -> None:
    style, picture = here.style, here.picture
    for line in lines:
        line.put(left - 1, "│", style("line"))
    lines[0].put(left + 2, "what she sends", style("dim"))
    row = 1
    by_name = {m.name: key for key, m in picture.messages.items()}
    for message_name, signal_name in SAYS:
        key = by_name.get(message_name)
        tally = picture.census.get(key) if key is not None else None
        if key is None or tally is None or row >= here.height:
            continue
        signal = picture.messages[key].signal(signal_name)
        if signal is None:
            continue
        lines[row].put(left + 2, message_name, style("dim"), 18)
        lines[row].put(left + 21, signal_name, style("sea"), 14)
        value = signal.words(tally.payload) or "—"
        lines[row].put(left + 36, value, style("strong", bold=True), here.width - left - 37)
        row += 1
