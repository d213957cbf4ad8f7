"""Health: what is wrong on the line? Load over time, faults by class, cycle times."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from textual import events
from textual.message import Message

from keel.app.desk.picture import Health, Picture
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Chart, Curve, draw_chart
from keel.app.paint.listed import Listed
from keel.app.paint.nothing import nothing_lines
from keel.app.paint.strokes import spark
from keel.app.paint.table import Column, fit, grow, width_of, window
from keel.app.views.health.checks import check_lines
from keel.app.views.watch.roster import terms_of
from keel.app.views.watch.view import ask_for
from keel.measure.cycles import Cycle
from keel.measure.faults import FaultClass
from keel.model.identity import key_words
from keel.model.units import NS_PER_S

FAULT_COLUMNS = (
    Column("class", "faults", 22),
    Column("count", "count", 6, True),
    Column("first", "first s", 10, True),
    Column("last", "last s", 10, True),
    Column("rate", "per min", 8, True, drop=2),
    Column("worst", "worst", 9, drop=1),
)
CYCLE_COLUMNS = (
    Column("bus", "bus", 4),
    Column("id", "identifier", 10, True),
    Column("name", "name", 17, drop=1),
    Column("nominal", "nominal ms", 10, True, drop=2),
    Column("mean", "mean ms", 9, True, drop=6),
    Column("jitter", "jitter ms", 9, True, drop=5),
    Column("p95", "95 % ms", 8, True, drop=8),
    Column("p99", "99 % ms", 8, True, drop=7),
    Column("histogram", "spread about the usual", 22, drop=3),
    Column("gap", "longest gap", 12, True),
    Column("at", "at s", 10, True, drop=4),
    Column("state", "state", 24),
)
STATE_ROLES = {"steady": "dim", "too few": "faint"}


class HealthView(Listed):
    """The view."""

    @dataclass
    class Jump(Message):
        """Show these frames; ``number`` is the one to take in hand, if any; ``key`` the identifier concerned."""

        ask: str
        number: int | None
        moment: int | None = None
        key: int | None = None

    @dataclass
    class Picked(Message):
        """An identifier was picked."""

        key: int

    def __init__(self) -> None:
        super().__init__(id="health")
        self.picture: Picture | None = None
        self.pick: int | None = None
        self._panel = "cycles"
        self._fault = self._check = self._check_row = self._top = 0
        self._upper = 10
        self._split = 80

    @property
    def chart_cells(self) -> int:
        """Stretches of time the load chart shows."""
        return max(self._split - 12, 20) * 2

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        if picture.health is not None and picture.health.cycles:
            known = [c.key for c in picture.health.cycles]
            if self.pick not in known:
                self.pick = known[0]
            self._fault = min(self._fault, max(len(picture.health.faults) - 1, 0))
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """Load and faults above, cycle times below."""
        picture = self.picture
        if picture is None or picture.health is None:
            lines = [self.line(width) for _ in range(4)]
            lines[2].put(4, "Measuring…", self.palette.style("dim"))
            return lines
        if not len(picture.matches):
            return nothing_lines(self.palette, width, picture)
        health = picture.health
        self._upper = min(max(height // 3, 8), 16)
        self._split = width * 52 // 100 if width >= 120 else width * 44 // 100
        lines = [self.line(width) for _ in range(self._upper + 1)]
        for line, left in zip(lines, self._load(picture, health, self._split, self._upper), strict=False):
            line.paste(0, left)
        right = self._right(picture, health, width - self._split, self._upper)
        for line, other in zip(lines, right, strict=False):
            line.paste(self._split, other)
        lines += self._cycles(picture, health.cycles, width, height - len(lines))
        return lines

    def _load(self, picture: Picture, health: Health, width: int, height: int) -> list[Line]:
        style = self.palette.style
        title = self.line(width)
        asked = picture.wish.ask
        of = "load by the frames of the ask, in the lens" if asked else "load of each bus in the lens"
        title.put(2, f"{of}, exact bits on the wire", style("brass" if asked else "dim"), width - 4)
        series = health.series
        start, end = picture.lens.start, picture.lens.end
        zero = picture.whole.start
        cells = series.load.shape[1]
        x = (np.linspace(start, end, cells + 1)[:-1] + (end - start) / cells / 2 - zero) / NS_PER_S
        most = float(series.load.max(initial=0.0)) * 100
        top = next(t for t in (5, 10, 20, 50, 100, 200, 500, 1e9) if most <= t * 0.98 or t == 1e9)
        curves = [
            Curve(x, series.load[i] * 100, self.palette.bus(i)) for i, load in enumerate(health.loads) if load.frames
        ]
        chart = Chart(curves, ((start - zero) / NS_PER_S, (end - zero) / NS_PER_S), (0.0, float(top)), " %")
        lines = [title, *draw_chart(self.palette, width, height - 2, chart)]
        foot = self.line(width)
        at = 2
        for i, bus in enumerate(picture.snapshot.manifest.buses):
            load = health.loads[i]
            at = foot.put(at, bus.name, style(self.palette.bus(i))) + 2
            peak = health.peaks[i]
            if load.mean is None or peak is None:
                text = f"{load.frames} frames: too short a time for a load"
            elif health.looked < 1:
                text = f"mean {load.mean:.1%}  peak {peak.load:.1%} so far, {health.looked:.0%} looked at"
            else:
                text = f"mean {load.mean:.1%}  peak {peak.load:.1%}"
                text += f" at {(peak.at - zero) / 1e9:.1f} s" if width > 80 else ""
            silent = "no frame of the ask" if asked else "silent"
            at = foot.put(at, text if load.frames else silent, style("text")) + 3
        return [*lines, foot]

    def _right(self, picture: Picture, health: Health, width: int, height: int) -> list[Line]:
        """Faults, and under them the user's own checks."""
        room = min(len(health.checks) + 1, max(height // 2, height - max(len(health.faults), 1) - 2))
        active = self._check if self._panel == "checks" else None
        checks = check_lines(self.palette, width - 1, health.checks[: room - 1], picture.whole.start, active)
        lines = self._faults(picture, health.faults, width, height)
        self._check_row = height - len(checks)
        for line, check in zip(lines[self._check_row :], checks, strict=True):
            line.paste(1, check)
        return lines

    def _faults(self, picture: Picture, faults: list[FaultClass], width: int, height: int) -> list[Line]:
        style = self.palette.style
        lines = [self.line(width) for _ in range(height)]
        for line in lines:
            line.put(0, "│", style("line"))
        columns = fit(FAULT_COLUMNS, width - 5)
        active = self._panel == "faults"
        for column, at in columns:
            role = "brass" if active and column.name == "class" else "dim"
            lines[0].put(3 + at, column.title, style(role), column.width, column.right)
        if not faults:
            lines[2].put(3, "· no faulty frame in the lens", style("dim"))
            return lines
        checks = len(picture.health.checks) if picture.health is not None else 0
        for i, fault in enumerate(faults[: max(height - 3 - min(checks, height // 2), 1)]):
            picked = active and i == self._fault
            on = "raised" if picked else "ink"
            line = lines[1 + i]
            line.ground(style("text", on), 1, width - 1)
            if picked:
                line.put(1, "▌", style("brass", on))
            zero = picture.whole.start
            cells = {
                "class": (f"✕ {fault.fault.title}", "coral"),
                "count": (words.count(fault.count), "strong"),
                "first": (words.seconds(fault.first_time - zero), "text"),
                "last": (words.seconds(fault.last_time - zero), "text"),
                "rate": (f"{fault.per_minute:.1f}", "dim"),
                "worst": (key_words(fault.worst_key), "text"),
            }
            for column, at in columns:
                text, role = cells[column.name]
                line.put(3 + at, text, style(role, on), column.width, column.right)
        return lines

    def _cycles(self, picture: Picture, cycles: list[Cycle], width: int, height: int) -> list[Line]:
        style = self.palette.style
        columns = fit(CYCLE_COLUMNS, width - 3)
        spare = width - 3 - columns[-1][1] - columns[-1][0].width
        if spare >= 22:
            columns = grow(columns, "histogram", 22)
        head = self.line(width)
        head.put(0, "─" * width, style("line"))
        active = self._panel == "cycles"
        lines = [head, self.line(width)]
        for column, at in columns:
            role = "brass" if active and column.name == "id" else "dim"
            lines[1].put(2 + at, column.title, style(role), column.width, column.right)
        if not cycles and height > 3:
            lines.append(self.line(width))
            text = "no frame without fault meets the ask: there are no cycle times"
            lines[-1].put(2, text, style("dim"), width - 3)
        keys = [c.key for c in cycles]
        cursor = keys.index(self.pick) if self.pick in keys else 0
        room = max(height - 2, 1)
        self._top = window(cursor, self._top, room, len(cycles))
        for cycle in cycles[self._top : self._top + room]:
            lines.append(self._cycle(picture, cycle, columns, width, active and cycle.key == self.pick))
        below = len(cycles) - self._top - room
        if below > 0:
            lines[-1].put(width - 12, f"↓ {below + 1} more", style("dim"), 12, True)
        return lines

    def _cycle(
        self, picture: Picture, cycle: Cycle, columns: list[tuple[Column, int]], width: int, picked: bool
    ) -> Line:
        style = self.palette.style
        on = "raised" if picked else "ink"
        line = self.line(width, on)
        if picked:
            line.put(0, "▌", style("brass", on))
        bus = cycle.key >> 56
        odd = cycle.state not in STATE_ROLES
        times = {"dropped out": cycle.gaps, "late": cycle.late}.get(cycle.state)
        state = f"{cycle.state} {words.count(times)}×" if times else cycle.state
        baseline = picture.wish.baseline
        if cycle.began is not None:
            state, odd = f"{state}, new at {words.seconds(cycle.began - picture.whole.start, 1)} s", True
        if baseline is not None and cycle.key in picture.census and picture.census[cycle.key].first >= baseline:
            state, odd = f"new · {state}", True
        cells = {
            "bus": (f" {picture.bus_name(cycle.key)}", self.palette.bus(bus)),
            "id": (key_words(cycle.key), "strong"),
            "name": (picture.name(cycle.key), "text" if cycle.key in picture.messages else "faint"),
            "nominal": (words.cycle(cycle.nominal) + ("*" if cycle.named else ""), "text"),
            "mean": (words.cycle(cycle.mean), "dim"),
            "jitter": (f"± {cycle.deviation / 1e6:.1f}", "dim"),
            "p95": (words.cycle(cycle.p95), "dim"),
            "p99": (words.cycle(cycle.p99), "dim"),
            "histogram": (spark(np.sqrt(cycle.in_cells(width_of(columns, "histogram")))), self.palette.bus(bus)),
            "gap": (words.length(cycle.gap), "brass" if odd else "dim"),
            "at": (words.seconds(cycle.gap_at - picture.whole.start), "dim"),
            "state": (state, "brass" if odd else STATE_ROLES[cycle.state]),
        }
        for column, at in columns:
            text, role = cells[column.name]
            line.put(2 + at, text, style(role, on, column.name == "id"), column.width, column.right)
        return line

    # What people do here.

    def move(self, by: int) -> None:
        """Move in the list at hand."""
        health = self.picture.health if self.picture else None
        if health is None:
            return
        if self._panel == "faults":
            self._fault = min(max(self._fault + by, 0), max(len(health.faults) - 1, 0))
            self.repaint()
            return
        if self._panel == "checks":
            self._check = min(max(self._check + by, 0), max(len(health.checks) - 1, 0))
            self.repaint()
            return
        keys = [c.key for c in health.cycles]
        if keys:
            at = keys.index(self.pick) if self.pick in keys else 0
            self.post_message(self.Picked(keys[min(max(at + by, 0), len(keys) - 1)]))

    def do_panel(self) -> None:
        """The other list."""
        health = self.picture.health if self.picture is not None else None
        panels = ["cycles"]
        if health is not None:
            panels += (["faults"] if health.faults else []) + (["checks"] if health.checks else [])
        self._panel = panels[(panels.index(self._panel) + 1) % len(panels)] if self._panel in panels else panels[0]
        self.repaint()

    @property
    def check_in_hand(self) -> str | None:
        """The text of the check in hand, if the checks have the keys."""
        health = self.picture.health if self.picture is not None else None
        if self._panel != "checks" or health is None or not health.checks:
            return None
        return health.checks[min(self._check, len(health.checks) - 1)].text

    def terms(self) -> list[str]:
        """What is in hand, as terms of an ask."""
        picture = self.picture
        if picture is None or picture.health is None:
            return []
        if self._panel == "faults" and picture.health.faults:
            fault = picture.health.faults[self._fault]
            return [f"fault:{fault.fault.word}", f"near(fault:{fault.fault.word} within 50ms)"]
        if self.pick is None or self.pick not in picture.census:
            return []
        return terms_of(picture, self.pick, ask_for(picture, self.pick))

    def _fault_in_hand(self) -> FaultClass | None:
        health = self.picture.health if self.picture else None
        if health is None or not health.faults:
            self.notify("there is no fault to jump to", timeout=2)
            return None
        return health.faults[self._fault]

    def do_first_of(self) -> None:
        """Jump to the first of the fault."""
        fault = self._fault_in_hand()
        if fault is not None:
            self.post_message(self.Jump(f"fault:{fault.fault.word}", fault.first))

    def do_last_of(self) -> None:
        """Jump to the last of the fault."""
        fault = self._fault_in_hand()
        if fault is not None:
            self.post_message(self.Jump(f"fault:{fault.fault.word}", fault.last))

    def do_gap_of(self) -> None:
        """Jump to where the longest gap of the pick begins."""
        health = self.picture.health if self.picture else None
        for cycle in health.cycles if health else ():
            if cycle.key == self.pick:
                self.post_message(self.Jump("", None, cycle.gap_at, cycle.key))

    def do_open_row(self) -> None:
        """What is in hand, as frames."""
        if self._panel == "faults":
            self.do_first_of()
        elif self._panel == "checks":
            self._open_check()
        elif self.pick is not None:
            self.post_message(self.Jump("", None, None, self.pick))

    def _open_check(self) -> None:
        health = self.picture.health if self.picture is not None else None
        if health is None or not health.checks:
            return
        verdict = health.checks[min(self._check, len(health.checks) - 1)]
        if verdict.at is not None and verdict.key is not None:
            self.post_message(self.Jump("", None, verdict.at, verdict.key))
        elif verdict.text.strip().lower().startswith("count("):
            from keel.measure.checks import parse_check

            self.post_message(self.Jump(parse_check(verdict.text).of, None))

    def on_click(self, event: events.Click) -> None:
        """Pick the clicked row."""
        health = self.picture.health if self.picture else None
        if health is None:
            return
        if event.y < self._upper and event.x > self._split:
            if event.y > self._check_row and event.y - self._check_row <= len(health.checks):
                self._panel, self._check = "checks", event.y - self._check_row - 1
                self.repaint()
            elif 1 <= event.y <= len(health.faults):
                self._panel, self._fault = "faults", event.y - 1
                self.repaint()
                if event.chain == 2:
                    self.do_first_of()
            return
        row = self._top + event.y - self._upper - 3
        if event.y >= self._upper + 3 and row < len(health.cycles):
            self._panel = "cycles"
            self.post_message(self.Picked(health.cycles[row].key))
            if event.chain == 2:
                self.post_message(self.Jump("", None, None, health.cycles[row].key))

    def on_mouse_scroll_down(self, event: events.MouseScrollDown) -> None:
        """Down the list."""
        self.move(3)

    def on_mouse_scroll_up(self, event: events.MouseScrollUp) -> None:
        """Up the list."""
        self.move(-3)
