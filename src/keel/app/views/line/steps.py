"""Where a step goes: to the next edge, bit, field, frame, fault or shortest pulse, from a moment on."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, floor
from typing import TYPE_CHECKING

from keel.app.views.line.choices import SHORTEST
from keel.model.span import Span, with_margin
from keel.store.waveform_entries import line_on

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.model.waveform import Logic
    from keel.store.waveform_entries import WaveformEntry

NEAR = 0.3
"""A moment is at the begin of a bit where it is so near, in bits."""
SHORT = 1.25
"""Pulses up to so many times the shortest are the shortest ones."""


@dataclass(frozen=True)
class Goal:
    """Where a step leads.

    Attributes:
        time: The moment.
        span: What should be seen of it; None where the moment is enough.
        frame: The frame it is, or is of.
        end: When it ends, of what is measured from begin to end; then both cursors are set to it.
        bus: The bus of the frame.
        form: The form of its identifier.
    """

    time: int
    span: Span | None = None
    frame: int | None = None
    end: int | None = None
    bus: int | None = None
    form: int = -1


def goal_of(picture: Picture, entry: WaveformEntry | None, step: str, time: int, forward: bool) -> Goal | None:
    """The next such thing; None if there is none. Reads the recording: for a thread of its own.

    Args:
        picture: What is shown.
        entry: The channel in hand.
        step: One of `STEPS`.
        time: From when on, in ns.
        forward: Later rather than earlier.
    """
    manifest = picture.snapshot.manifest
    line = line_on(manifest.waveforms, manifest.lines, entry) if entry is not None else None
    # Of the channel in hand if something was read from it, else of any.
    buses = {one.bus for one in manifest.lines} if line is None else {line.bus}
    if step in ("frame", "fault"):
        return _frame(picture, buses, step == "fault", time, forward)
    if entry is None:
        return None
    if step == "field":
        return _field(picture, buses, time, forward)
    from keel.probe.looking import levels_of

    levels = levels_of(picture.snapshot, entry)
    if levels is None or not len(levels.edges):
        return None
    if step == SHORTEST:
        return _pulse(levels, time, forward)
    if step == "bit":
        return _bit(levels, entry.measured.get("bit_ns", 0.0), time, forward)
    at = _edge(levels, time, forward)
    return Goal(at) if at is not None else None


def _edge(levels: Logic, time: int, forward: bool) -> int | None:
    place = int(levels.edges.searchsorted(time, side="right" if forward else "left")) - (0 if forward else 1)
    return int(levels.edges[place]) if 0 <= place < len(levels.edges) else None


def _bit(levels: Logic, bit_ns: float, time: int, forward: bool) -> Goal | None:
    """The next moment that is whole bits after an edge, or the next edge if that comes first."""
    following = _edge(levels, time, forward)
    if bit_ns <= 0:
        return Goal(following) if following is not None else None
    last = int(levels.edges.searchsorted(time, side="right" if forward else "left")) - 1
    if last < 0:
        return Goal(following) if following is not None else None
    base = int(levels.edges[last])
    bits = (time - base) / bit_ns
    if forward:
        at = base + round((floor(bits + NEAR) + 1) * bit_ns)
        if following is not None and following <= at + NEAR * bit_ns:
            at = following
    else:
        at = base + round(max(ceil(bits - NEAR) - 1, 0) * bit_ns)
    return Goal(at)


def _pulse(levels: Logic, time: int, forward: bool) -> Goal | None:
    import numpy as np

    widths = np.diff(levels.edges)
    if not len(widths):
        return None
    short = np.flatnonzero(widths <= SHORT * widths.min())
    begins = levels.edges[short]
    place = int(np.searchsorted(begins, time, side="right" if forward else "left")) - (0 if forward else 1)
    # Behind the last one comes the first again.
    at = int(short[place % len(short)])
    begin, end = int(levels.edges[at]), int(levels.edges[at + 1])
    return Goal(begin, Span(begin - 8 * (end - begin), end + 8 * (end - begin)), end=end)


def _frame(picture: Picture, buses: set[int], faulty: bool, time: int, forward: bool) -> Goal | None:
    """The next frame that meets the ask and was read from a waveform."""
    from keel.ask.language import parse
    from keel.ask.matches import Matcher
    from keel.media.every import ends_of

    node, snapshot, ask = picture.node, picture.snapshot, picture.wish.ask
    if faulty and not picture.ask_error:
        node = parse(f"({ask}) fault" if ask else "fault", picture.scene)
    found = Matcher(node, picture.scene).run(snapshot)
    place = found.at_or_after(time + 1 if forward else time)
    place -= 0 if forward else 1
    while 0 <= place < len(found):
        number = int(found.numbers(place, place + 1)[0])
        one = snapshot.rows(number, number + 1)
        if int(one.bus[0]) in buses:
            start = int(one.time[0])
            end = next(iter(ends_of(one, snapshot.manifest.buses))) or start
            return Goal(start, with_margin(start, end), number, None, int(one.bus[0]), int(one.form[0]))
        place += 1 if forward else -1
    return None


def _field(picture: Picture, buses: set[int], time: int, forward: bool) -> Goal | None:
    """The next begin of a field, of the frame that is there or the next one."""
    from keel.media.every import ends_of
    from keel.probe.fields import Explainer

    explain = Explainer(picture.snapshot)
    # The frame in which the moment lies, or else the next.
    goal = _frame(picture, buses, False, time + (1 if forward else 0), False)
    for _ in range(2):
        if goal is None:
            goal = _frame(picture, buses, False, time, forward)
            if goal is None:
                return None
        assert goal.frame is not None
        one = picture.snapshot.rows(goal.frame, goal.frame + 1)
        start = int(one.time[0])
        end = next(iter(ends_of(one, picture.snapshot.manifest.buses))) or start
        begins = [field.start for field in explain.fields(int(one.bus[0]), start, end, int(one.form[0])) or ()]
        later = [b for b in begins if (b > time if forward else b < time)]
        if later:
            return Goal(later[0] if forward else later[-1], None, goal.frame)
        goal = _frame(picture, buses, False, max(time, start) if forward else start, forward)
    return None
