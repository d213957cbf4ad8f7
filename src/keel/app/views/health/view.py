"""The Health view: load and faults above, the user's checks beside them, cycle times below."""

from __future__ import annotations

from dataclasses import dataclass, replace

from keel.app.desk import edits
from keel.app.desk.naming import terms_of
from keel.app.frame.action import Action, moves
from keel.app.frame.helm import Helm, Here
from keel.app.frame.steering import BASELINE, HOLD, frames_of, narrow, narrowed
from keel.app.frame.view import View
from keel.app.paint.canvas import Line
from keel.app.paint.nothing import nothing_lines
from keel.app.paint.table import window
from keel.app.views.health.checks import check_lines
from keel.app.views.health.choices import HealthChoices, Panel
from keel.app.views.health.cycles import cycle_lines
from keel.app.views.health.faults import fault_lines
from keel.app.views.health.load import load_lines
from keel.app.views.health.recording import recording_lines
from keel.app.views.health.wants import Health, HealthWant
from keel.errors import AskError
from keel.measure.checks import FORMS, Verdict, parse_check
from keel.measure.faults import FaultClass


@dataclass(frozen=True)
class Layout:
    """Where everything stands: rows above, where they are split, the first row of the checks, rows of cycle times.

    ``upper`` has the rows about the recording itself, which stand below the others.
    """

    upper: int
    recording: int
    split: int
    check_row: int
    checks_shown: int
    top: int
    room: int


class HealthView(View):
    """The view."""

    def __init__(self) -> None:
        self.actions = (
            HOLD,
            *moves(self.move, lambda helm: self._layout(helm.here, _health(helm.here)).room),
            Action(("enter",), "enter", "frames", "Only this, as frames", self.open_row),
            BASELINE,
            Action(("tab",), "tab", "panel", "The other list", self.next_panel),
            Action(("f",), "f", "first", "Jump to the first of this fault", lambda helm: self._to_fault(helm, True)),
            Action(("l",), "l", "last", "Jump to the last of this fault", lambda helm: self._to_fault(helm, False)),
            Action(("N",), "N", "", "Name the nominal cycle time of this identifier", self.name_nominal),
            Action(("r",), "r", "", "Say how fast a bus runs", self.name_rates),
            Action(("a",), "a", "check", "Write a check of your own", self.write_check),
            Action(("delete",), "Del", "", "Remove the check in hand", self.remove_check),
            Action(("g",), "g", "gap", "Jump to the longest gap of this identifier", self.to_gap),
            Action(("o",), "o", "only", "Only this, or not this", lambda helm: narrow(helm, self.terms(helm.here))),
        )

    def wants(self, here: Here) -> HealthWant:
        """All of it, the chart in two columns a cell."""
        return HealthWant(max(_split(here.width) - 12, 20) * 2)

    def at_first(self) -> HealthWant:
        """All of it."""
        return HealthWant()

    # Where everything stands.

    def _layout(self, here: Here, health: Health) -> Layout:
        recording = len(recording_lines(here))
        upper = min(max(here.height // 3, 8), 16)
        checks = min(len(health.checks) + 1, max(upper // 2, upper - max(len(health.faults), 1) - 2))
        room = max(here.height - upper - recording - 3, 1)
        pick = self.pick(here)
        keys = [c.key for c in health.cycles]
        cursor = keys.index(pick) if pick in keys else 0
        top = window(cursor, here.state.of(HealthChoices).top, room, len(keys))
        return Layout(upper + recording, recording, _split(here.width), upper - checks, checks - 1, top, room)

    def pick(self, here: Here) -> int | None:
        """The identifier in hand; the first one if none was taken."""
        health = here.picture.part(Health)
        keys = [c.key for c in health.cycles] if health is not None else []
        return here.state.pick if here.state.pick in keys else keys[0] if keys else None

    # Painting.

    def paint(self, here: Here) -> list[Line]:
        """Load and faults above, cycle times below."""
        health, picture = here.picture.part(Health), here.picture
        if health is None:
            lines = [here.line() for _ in range(4)]
            lines[2].put(4, "Measuring…", here.style("dim"))
            return lines
        if not len(picture.matches):
            return nothing_lines(here.palette, here.width, picture)
        choices, layout = here.state.of(HealthChoices), self._layout(here, health)
        panel = _panel(health, choices)
        about = recording_lines(here)
        height = layout.upper - layout.recording
        lines = [*(here.line() for _ in range(height)), *about, here.line()]
        for line, left in zip(lines, load_lines(here, health, layout.split, height), strict=False):
            line.paste(0, left)
        width = here.width - layout.split
        fault = _fault_place(health, choices) if panel == "faults" else None
        room = max(layout.check_row - 1, 1)
        right = fault_lines(here, health.faults, fault, width, height, room)
        check = _check_place(health, choices) if panel == "checks" else None
        shown = health.checks[: layout.checks_shown]
        checks = check_lines(here.palette, width - 1, shown, picture.zero, check)
        for line, other in zip(right[layout.check_row :], checks, strict=False):
            line.paste(1, other)
        for line, other in zip(lines[:height], right, strict=False):
            line.paste(layout.split, other)
        rest = here.height - len(lines)
        return lines + cycle_lines(here, health, layout.top, rest, self.pick(here), panel == "cycles")

    # What people do here.

    def _choose(self, helm: Helm, **to: object) -> None:
        state = helm.state.having(replace(helm.state.of(HealthChoices), **to))  # type: ignore[arg-type]
        helm.change("row", state, joins=True)

    def move(self, helm: Helm, by: int) -> None:
        """Take another row of the list at hand in hand."""
        here, health = helm.here, _health(helm.here)
        choices = here.state.of(HealthChoices)
        panel = _panel(health, choices)
        if panel == "faults":
            at = min(max(_fault_place(health, choices) + by, 0), len(health.faults) - 1)
            self._choose(helm, fault=health.faults[at].fault.word)
        elif panel == "checks":
            at = min(max(_check_place(health, choices) + by, 0), len(health.checks) - 1)
            self._choose(helm, check=health.checks[at].text)
        elif health.cycles:
            keys, pick = [c.key for c in health.cycles], self.pick(here)
            at = keys.index(pick) if pick in keys else 0
            self._take(helm, health, min(max(at + by, 0), len(keys) - 1))

    def _take(self, helm: Helm, health: Health, cursor: int) -> None:
        layout = self._layout(helm.here, health)
        top = window(cursor, layout.top, layout.room, len(health.cycles))
        choices = replace(helm.state.of(HealthChoices), panel="cycles", top=top)
        helm.change("pick", replace(helm.state, pick=health.cycles[cursor].key).having(choices), joins=True)

    def next_panel(self, helm: Helm) -> None:
        """The other list."""
        health, choices = _health(helm.here), helm.state.of(HealthChoices)
        panels: list[Panel] = ["cycles"]
        panels += ["faults"] if health.faults else []
        panels += ["checks"] if health.checks else []
        panel = panels[(panels.index(_panel(health, choices)) + 1) % len(panels)]
        helm.change("panel", helm.state.having(replace(choices, panel=panel)), joins=True)

    def terms(self, here: Here) -> list[str]:
        """What is in hand, as terms of an ask."""
        health, choices = here.picture.part(Health), here.state.of(HealthChoices)
        if health is None:
            return []
        fault = _fault(health, choices)
        if _panel(health, choices) == "faults" and fault is not None:
            return [f"fault:{fault.fault.word}", f"near(fault:{fault.fault.word} within 50ms)"]
        pick = self.pick(here)
        return terms_of(here.picture, pick) if pick in here.picture.census and pick is not None else []

    def _to_fault(self, helm: Helm, first: bool) -> None:
        fault = _fault(_health(helm.here), helm.state.of(HealthChoices))
        if fault is None:
            helm.tell("there is no fault to jump to", 2)
            return
        ask = narrowed(helm, f"fault:{fault.fault.word}")
        number = fault.first if first else fault.last
        helm.change("jump", replace(helm.state, view="frames", ask=ask, frame=number))

    def to_gap(self, helm: Helm) -> None:
        """Jump to where the longest gap of the pick begins."""
        pick = self.pick(helm.here)
        for cycle in _health(helm.here).cycles:
            if cycle.key == pick:
                frames_of(helm, cycle.key, helm.here.picture.matches.frame_at(cycle.gap_at))

    def open_row(self, helm: Helm) -> None:
        """What is in hand, as frames."""
        health, choices = _health(helm.here), helm.state.of(HealthChoices)
        panel, pick = _panel(health, choices), self.pick(helm.here)
        if panel == "faults":
            self._to_fault(helm, True)
        elif panel == "checks":
            self._open_check(helm, health.checks[_check_place(health, choices)])
        elif pick is not None:
            frames_of(helm, pick)

    def _open_check(self, helm: Helm, verdict: Verdict) -> None:
        if verdict.at is not None and verdict.key is not None:
            frames_of(helm, verdict.key, helm.here.picture.matches.frame_at(verdict.at))
        elif verdict.text.strip().lower().startswith("count("):
            ask = narrowed(helm, parse_check(verdict.text).of)
            helm.change("jump", replace(helm.state, view="frames", ask=ask, frame=None))

    def name_nominal(self, helm: Helm) -> None:
        """Name the nominal cycle time of the pick."""
        from keel.app.views.health.nominal import nominal_ns

        picture, pick = helm.here.picture, self.pick(helm.here)
        if pick is None:
            return
        key, known = pick, picture.snapshot.manifest.nominal.get(pick)

        def named(text: str) -> None:
            ns = nominal_ns(text)
            if ns is None:
                helm.tell(f"“{text}” is no time in ms", 3, error=True)
            else:
                helm.edit("nominal cycle time", edits.nominal_cycle(key, ns))

        title = f"Nominal cycle time of {picture.name(pick)} in ms"
        hint = "enter keeps it; empty infers it   esc leave"
        helm.windows.text(title, hint, f"{known / 1e6:g}" if known else "", named, empty=True)

    def name_rates(self, helm: Helm) -> None:
        """Say how fast a bus runs."""
        from keel.app.views.health.rates import choose_bus

        choose_bus(helm)

    def write_check(self, helm: Helm) -> None:
        """Write a check."""

        def written(text: str) -> None:
            try:
                parse_check(text)
            except AskError as error:
                helm.tell(str(error), 8, error=True)
            else:
                helm.edit("check", edits.check(text, True))

        helm.windows.text("A check of your own", "   ".join(FORMS), "", written)

    def remove_check(self, helm: Helm) -> None:
        """Remove the check in hand."""
        health, choices = _health(helm.here), helm.state.of(HealthChoices)
        if _panel(health, choices) != "checks":
            helm.tell("tab to the checks first", 2)
            return
        helm.edit("check removed", edits.check(health.checks[_check_place(health, choices)].text, False))

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """Take the clicked row in hand; a second click opens it."""
        health = _health(helm.here)
        layout = self._layout(helm.here, health)
        if y < layout.upper - layout.recording and x > layout.split:
            if layout.check_row < y <= layout.check_row + layout.checks_shown:
                self._choose(helm, panel="checks", check=health.checks[y - layout.check_row - 1].text)
            elif 1 <= y <= len(health.faults):
                self._choose(helm, panel="faults", fault=health.faults[y - 1].fault.word)
                if again:
                    self._to_fault(helm, True)
            return
        row = layout.top + y - layout.upper - 3
        if y >= layout.upper + 3 and row < len(health.cycles):
            self._take(helm, health, row)
            if again:
                frames_of(helm, health.cycles[row].key)

    def wheel(self, helm: Helm, by: int) -> None:
        """Up or down the list."""
        self.move(helm, by)


def _split(width: int) -> int:
    return width * 52 // 100 if width >= 120 else width * 44 // 100


def _health(here: Here) -> Health:
    """What was measured.

    Raises:
        NothingYet: nothing was yet.
    """
    from keel.app.shared.trouble import NothingYet

    health = here.picture.part(Health)
    if health is None:
        raise NothingYet("it is being measured")
    return health


def _panel(health: Health, choices: HealthChoices) -> Panel:
    """The list that has the keys; an empty one has none."""
    if (choices.panel == "faults" and not health.faults) or (choices.panel == "checks" and not health.checks):
        return "cycles"
    return choices.panel


def _fault_place(health: Health, choices: HealthChoices) -> int:
    return next((i for i, f in enumerate(health.faults) if f.fault.word == choices.fault), 0)


def _fault(health: Health, choices: HealthChoices) -> FaultClass | None:
    return health.faults[_fault_place(health, choices)] if health.faults else None


def _check_place(health: Health, choices: HealthChoices) -> int:
    return next((i for i, v in enumerate(health.checks) if v.text == choices.check), 0)
