"""Margins of a line below its waveform: how close to failure it is, alone or beside another one."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.frame.helm import Choice, Helm, Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.strokes import bar
from keel.app.views.line.choices import LineChoices, Task
from keel.app.views.line.going import go_to
from keel.app.views.line.layout import across
from keel.app.views.line.moments import clock_of
from keel.app.views.line.steps import Goal
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.making import Making
    from keel.probe.beside import Beside
    from keel.probe.margins import Margin, Margins

FEW, LITTLE = 0.1, 0.3
"""What has less left is marked; what has less than the second stands out."""
BAR = 8
OFTEN_S = 0.25
AROUND_BITS = 20


@dataclass(frozen=True, eq=False)
class Measures:
    """What was measured of a line; ``share`` is how far it is, from 0 to 1.

    Attributes:
        alone: Its margins, if it was measured alone.
        both: What was found of it and another one.
    """

    task: Task
    share: float = 0.0
    alone: Margins | None = None
    both: Beside | None = None

    @property
    def rows(self) -> tuple[Margin, ...]:
        """What can be gone to: the rows of the line itself."""
        if self.both is not None:
            return tuple(pair.b or pair.a for pair in self.both.rows if pair.b or pair.a)  # type: ignore[misc]
        return self.alone.rows if self.alone is not None else ()


def measure(making: Making, task: Task, stopped: Callable[[], bool], show: Callable[[Measures], None]) -> Measures:
    """Measure the frames in the lens that meet the ask; on a thread of its own."""
    import numpy as np

    from keel.app.dialogs.working import GivenUp
    from keel.ask.fetch import frames_at
    from keel.ask.matches import Matcher
    from keel.probe.aligning import frames_on
    from keel.probe.beside import WITHIN_NS, Side, side_by_side
    from keel.probe.looking import longest
    from keel.probe.margins import margins_of

    snapshot, lens = making.snapshot, making.lens
    told = 0.0

    def progress(done: int, total: int) -> None:
        nonlocal told
        if stopped():
            raise GivenUp("given up")
        if time.monotonic() - told > OFTEN_S:
            told = time.monotonic()
            show(Measures(task, done / max(total, 1)))

    reach = Span(lens.start - longest(snapshot.manifest), lens.end)
    matches = Matcher(making.node, making.scene).run(snapshot, reach)
    frames = frames_at(matches, 0, len(matches)) if len(matches) else snapshot.rows(0, 0)
    took = frames.duration if frames.duration is not None else 0
    mine = frames.take(np.flatnonzero((frames.bus == task.bus) & (frames.time + took > lens.start)))
    if task.beside is None:
        return Measures(task, 1.0, margins_of(snapshot, mine, progress))
    other = frames_on(snapshot, task.beside, Span(lens.start - WITHIN_NS, lens.end + WITHIN_NS))
    return Measures(task, 1.0, both=side_by_side(Side(snapshot, mine), Side(snapshot, other), progress))


# Painting.


def measure_lines(here: Here, errand: Errand[Measures], task: Task, rows: int) -> list[Line]:
    """The table of margins, nearest to failure first."""
    names = here.picture.snapshot.manifest.bus_names
    found = errand.result
    heading = here.line()
    title = f"how close to failure is {names[task.bus]}?"
    if task.beside is not None:
        title = f"from {names[task.bus]} to {names[task.beside]}"
    at = heading.put(2, title, here.style("strong", bold=True)) + 3
    if errand.trouble:
        heading.put(at, f"✕ {errand.trouble}", here.style("coral"))
    elif errand.given_up:
        heading.put(at, "given up; v v measures again", here.style("dim"))
    elif found is None or found.share < 1:
        done = found.share if found is not None else 0.0
        heading.put(at, f"measuring {bar(done, 20)} {done:.0%}   esc gives up", here.style("brass"))
    lines = [heading]
    if found is None or found.share < 1 or found.task != task:
        return lines
    if found.alone is not None:
        lines += _alone(here, found.alone)
    elif found.both is not None:
        lines += _both(here, found.both, names[task.bus], names[task.beside or 0])
    return lines[:rows]


def _said(here: Here, sentences: tuple[str, ...] | list[str], role: str) -> list[Line]:
    lines = []
    for sentence in sentences:
        line = here.line()
        line.put(2, sentence, here.style(role))
        lines.append(line)
    return lines


def _alone(here: Here, found: Margins) -> list[Line]:
    if not found.rows:
        return [*_said(here, found.said, "brass"), *_said(here, ["no frame in the lens meets the ask"], "dim")]
    heading, clock = here.line(), clock_of(here, across(here))
    _cells(heading, here, "dim", ("what", "left", "", "least", "mean", "most", "should be", "", "worst at"))
    lines = [heading]
    for row in found.rows:
        line = here.line()
        role = _role(row.margin)
        share = "—" if row.margin is None else f"{row.margin:.0%}"
        mark = "✕ " if row.margin is not None and row.margin < FEW else "≈ " if row.limited else ""
        numbers = tuple(words.measured(one) for one in (row.least, row.mean, row.most))
        nominal = "—" if row.nominal is None else words.measured(row.nominal)
        moment = clock.moment(row.at)
        _cells(line, here, "text", (f"{mark}{row.what}", share, "", *numbers, nominal, row.unit, moment))
        line.put(34, share, here.style(role, bold=role != "text"), 6, True)
        line.put(41, bar(row.margin or 0.0, BAR), here.style(_bar_role(role)), BAR)
        lines.append(line)
    limited = any(row.limited for row in found.rows)
    note = ["≈ no more than the interval of the samples makes of it"] if limited else []
    return [*lines, *_said(here, found.said, "brass"), *_said(here, note, "dim")]


_WIDTHS = ((2, 31, False), (34, 6, True), (41, 8, False), (50, 11, True), (62, 11, True), (74, 11, True),
           (86, 11, True), (98, 5, False), (103, 16, True))  # fmt: skip


def _cells(line: Line, here: Here, role: str, cells: tuple[str, ...]) -> None:
    for (at, wide, right), text in zip(_WIDTHS, cells, strict=True):
        if at + wide <= here.width:
            line.put(at, text, here.style(role), wide, right)


def _role(margin: float | None) -> str:
    if margin is None:
        return "dim"
    return "coral" if margin < FEW else "brass" if margin < LITTLE else "text"


def _bar_role(role: str) -> str:
    return "slate" if role == "text" else role


_BOTH = ((2, 25, False), (28, 13, True), (42, 8, False), (52, 13, True), (66, 8, False), (76, 8, True), (86, 16, True),
         (104, 16, True), (122, 5, False))  # fmt: skip


def _both(here: Here, found: Beside, before: str, after: str) -> list[Line]:
    lines = _said(here, found.words()[:2], "text")
    if found.first_lost is not None:
        said = f"first lost at {words.seconds(found.first_lost - here.picture.zero, 6)} s"
        lines[0].put(len(lines[0].text().rstrip()) + 2, said, here.style("coral"))
    heading = here.line()
    titles = ("what", before, "", after, "", "change", f"mean {before}", f"mean {after}", "")
    for (at, wide, right), text in zip(_BOTH, titles, strict=True):
        heading.put(at, text, here.style("dim"), wide, right)
    lines.append(heading)
    for pair in found.rows:
        line = here.line()
        line.put(2, pair.what, here.style("text"), _BOTH[0][1])
        for row, (at, wide, _), (to, long, _) in ((pair.a, _BOTH[1], _BOTH[2]), (pair.b, _BOTH[3], _BOTH[4])):
            margin = row.margin if row is not None else None
            line.put(at, "—" if margin is None else f"{margin:.0%}", here.style(_role(margin)), wide, True)
            line.put(to, bar(margin or 0.0, BAR), here.style(_bar_role(_role(margin))), long)
        change = pair.change
        role = "dim" if change is None or abs(change) < 0.005 else "coral" if change < 0 else "sea"
        said = "—" if change is None else f"{'▼' if change < 0 else '▲'} {change:+.0%}" if role != "dim" else "same"
        line.put(_BOTH[5][0], said, here.style(role), _BOTH[5][1], True)
        for row, (at, wide, _) in ((pair.a, _BOTH[6]), (pair.b, _BOTH[7])):
            line.put(at, "—" if row is None else words.measured(row.mean), here.style("text"), wide, True)
        line.put(_BOTH[8][0], pair.unit, here.style("dim"))
        lines.append(line)
    return [*lines, *_said(here, found.words()[2:], "brass")]


# What people do.


def turn_margins(helm: Helm, bus: int | None) -> None:
    """Measure the line in hand, or put the margins away."""
    choices = helm.state.of(LineChoices)
    if choices.task is not None:
        helm.change("margins away", helm.state.having(replace(choices, task=None)))
    elif bus is None:
        helm.tell("no frame was read from this channel: there is nothing to measure", 4)
    else:
        helm.change("margins", helm.state.having(replace(choices, task=Task(bus))))


def choose_beside(helm: Helm, bus: int | None) -> None:
    """Choose a line to hold beside the one in hand, as before and after."""
    manifest = helm.here.picture.snapshot.manifest
    others = [line.bus for line in manifest.lines if line.bus != bus]
    if bus is None or not others:
        helm.tell("there is no other line to hold beside it: keel decode FILE -o REC --align auto adds one", 5)
        return

    def chosen(number: str) -> None:
        choices = helm.state.of(LineChoices)
        helm.change("two lines", helm.state.having(replace(choices, task=Task(bus, int(number)))))

    listed = [Choice(str(number), manifest.buses[number].name) for number in others]
    helm.windows.choose(f"After {manifest.buses[bus].name} comes", listed, chosen)


def choose_worst(helm: Helm, measures: Measures | None, bit_ns: float) -> None:
    """Choose what to look at where it is worst."""
    rows = [row for row in measures.rows if row.margin is not None] if measures is not None else []
    if not rows:
        helm.tell("v measures the margins of the line in hand first", 3)
        return

    def chosen(place: str) -> None:
        at = rows[int(place)].at
        around = max(round(AROUND_BITS * bit_ns / 2), 500)
        go_to(helm, Goal(at, Span(at - around, at + around)))

    listed = [Choice(str(n), f"{row.what:32}{row.margin or 0.0:>6.0%} left") for n, row in enumerate(rows)]
    helm.windows.choose("Where it is worst", listed, chosen)
