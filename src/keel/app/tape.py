"""The tape: the whole recording at a glance, and the lens on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from textual import events
from textual.message import Message

from keel.app.paper import Line, Sheet
from keel.app.strokes import nice_step, spark, tick_words
from keel.model.span import Span
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.app.desk import Picture

LABEL = 8
RIGHT = 2


class Tape(Sheet):
    """Four rows: density of the first two buses (others join the second), faults and marks, time."""

    DEFAULT_CSS = "Tape { height: 4; }"

    @dataclass
    class Chosen(Message):
        """A lens was dragged, or a moment clicked (then the span is empty)."""

        span: Span

    def __init__(self) -> None:
        super().__init__(id="tape")
        self.picture: Picture | None = None
        self._drag: tuple[int, int] | None = None

    @property
    def cells(self) -> int:
        """How many stretches of time are shown."""
        return max(self.size.width - LABEL - RIGHT, 1)

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The rows."""
        style = self.palette.style
        lines = [self.line(width) for _ in range(4)]
        picture = self.picture
        if picture is None or picture.snapshot.frames == 0:
            lines[1].put(LABEL, "nothing recorded yet", style("dim"))
            return lines
        self._ground_of_lens(lines, picture)
        rates = picture.tape.rate_hz
        buses = picture.snapshot.manifest.buses
        for row in range(min(len(buses), 2)):
            rate = rates[row] if row == 0 or len(buses) <= 2 else rates[1:].sum(axis=0)
            label = buses[row].name if row == 0 or len(buses) <= 2 else f"{len(buses) - 1} more"
            role = self.palette.bus(row)
            lines[row].put(2, label, style(role), 5)
            top = sorted(rate.tolist())[int(0.99 * (len(rate) - 1))] * 1.25
            self._write(lines[row], spark(rate[: self.cells], top or 1.0), role, picture)
        self._flags(lines[2], picture)
        self._axis(lines[3], picture, width)
        if picture.wish.lens is not None or self._drag is not None:
            low, high = self._lens_cells(picture)
            for place, sign in ((LABEL + low - 1, "["), (LABEL + high, "]")):
                lines[3].put(place, sign, self.palette.style("brass", bold=True), 1)
        return lines

    def _lens_cells(self, picture: Picture) -> tuple[int, int]:
        if self._drag is not None:
            return min(self._drag), max(self._drag) + 1
        low = self._cell(picture, picture.lens.start)
        return low, max(self._cell(picture, picture.lens.end - 1) + 1, low + 1)

    def _cell(self, picture: Picture, time: int) -> int:
        length = max(picture.whole.end - picture.whole.start, 1)
        return int((time - picture.whole.start) * self.cells / length)

    def _ground_of_lens(self, lines: list[Line], picture: Picture) -> None:
        if picture.wish.lens is None and self._drag is None:
            return
        low, high = self._lens_cells(picture)
        for line in lines[:3]:
            line.ground(self.palette.style("text", "raised"), LABEL + low, LABEL + high)

    def _write(self, line: Line, text: str, role: str, picture: Picture) -> None:
        low, high = (-1, -1) if picture.wish.lens is None and self._drag is None else self._lens_cells(picture)
        for i, char in enumerate(text):
            if char != " ":
                on = "raised" if low <= i < high else "ink"
                line.put(LABEL + i, char, self.palette.style(role, on), 1)

    def _flags(self, line: Line, picture: Picture) -> None:
        low, high = (-1, -1) if picture.wish.lens is None and self._drag is None else self._lens_cells(picture)

        def on(cell: int) -> str:
            return "raised" if low <= cell < high else "ink"

        times = picture.tape.fault_times
        length = max(picture.whole.end - picture.whole.start, 1)
        for cell in set(((times - picture.whole.start) / length * self.cells).astype(int).tolist()):
            line.put(LABEL + cell, "│", self.palette.style("coral", on(cell), True), 1)
        for mark in picture.snapshot.manifest.marks:
            cell = self._cell(picture, mark.time)
            if 0 <= cell < self.cells:
                line.put(LABEL + cell, f"⚑{mark.number}", self.palette.style("brass", on(cell)))

    def _axis(self, line: Line, picture: Picture, width: int) -> None:
        length = (picture.whole.end - picture.whole.start) / NS_PER_S
        step = nice_step(length, max(self.cells // 14, 1))
        for k in range(int(length / step) + 1):
            place = LABEL + int(k * step / length * self.cells) if length else LABEL
            if place < width - 6:
                line.put(place, f"{tick_words(k * step, step)}s", self.palette.style("dim"))

    def _time_at(self, cell: float) -> int:
        assert self.picture is not None
        whole = self.picture.whole
        share = min(max(cell / self.cells, 0.0), 1.0)
        return whole.start + int((whole.end - whole.start) * share)

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Begin to drag."""
        if self.picture is not None and event.button == 1:
            cell = min(max(event.x - LABEL, 0), self.cells - 1)
            self._drag = (cell, cell)
            self.capture_mouse()
            self.repaint()

    def on_mouse_move(self, event: events.MouseMove) -> None:
        """Go on dragging."""
        if self._drag is not None:
            self._drag = (self._drag[0], min(max(event.x - LABEL, 0), self.cells - 1))
            self.repaint()

    def on_mouse_up(self, event: events.MouseUp) -> None:
        """The lens is set; a click without a drag asks for a moment."""
        if self._drag is None:
            return
        self.release_mouse()
        low, high = min(self._drag), max(self._drag)
        self._drag = None
        if low == high:
            moment = self._time_at(low + 0.5)
            self.post_message(self.Chosen(Span(moment, moment)))
        else:
            self.post_message(self.Chosen(Span(self._time_at(low), self._time_at(high + 1))))
        self.repaint()
