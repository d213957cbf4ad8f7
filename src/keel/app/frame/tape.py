"""The tape: the whole recording at a glance, and the lens on it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from textual import events

from keel.app.desk.holes import holes_of
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.strokes import nice_step, spark, tick_words
from keel.model.span import Span
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.measure.load import Series

LABEL = 8
RIGHT = 2
LEAST_ROWS, MOST_ROWS, MOST_IN_LOW = 2, 5, 3
"""Rows for buses: never fewer, so that nothing moves when a second one comes; never more, and fewer in a low window."""
LOW = 34
HOLE = "╳"


class Tape(Sheet):
    """Density of each bus, faults and marks, time: of the lens. Buses for which there is no row share the last one.
    With a lens, a row above shows the whole recording and where the lens is."""

    DEFAULT_CSS = "Tape { height: 4; }"

    def __init__(self, look_at: Callable[[Span], None]) -> None:
        """``look_at`` takes a lens that was dragged, or a moment that was clicked: then the span is empty."""
        super().__init__(id="tape")
        self._look_at = look_at
        self.picture: Picture | None = None
        self._drag: tuple[int, int] | None = None
        self._over = False

    @property
    def cells(self) -> int:
        """How many stretches of time are shown."""
        return max(self.size.width - LABEL - RIGHT, 1)

    @property
    def _rows(self) -> int:
        """How many rows there are for buses."""
        count = len(self.picture.snapshot.manifest.buses) if self.picture is not None else 0
        return min(max(count, LEAST_ROWS), MOST_IN_LOW if self.app.size.height < LOW else MOST_ROWS)

    @property
    def _zoomed(self) -> bool:
        return self.picture is not None and self.picture.overview is not None

    def show(self, picture: Picture) -> None:
        """Show another moment."""
        self.picture = picture
        self.styles.height = self._zoomed + self._rows + 2
        self.repaint()

    def paint(self, width: int, height: int) -> list[Line]:
        """The rows."""
        style = self.palette.style
        lines = [self.line(width) for _ in range(self._zoomed + self._rows + 2)]
        picture = self.picture
        if picture is None or picture.snapshot.frames == 0:
            waves = len(picture.snapshot.manifest.waveforms) if picture is not None else 0
            said = "no frames, but waveforms: 7 shows them" if waves else "nothing recorded yet"
            lines[1].put(LABEL, said, style("dim"))
            return lines
        if picture.overview is not None:
            self._overview(lines[0], picture, picture.overview)
        rows = lines[-self._rows - 2 :]
        dragged = self._dragged(picture.lens) if not self._over else None
        if dragged is not None:
            for line in rows[:-1]:
                line.ground(style("text", "raised"), LABEL + dragged[0], LABEL + dragged[1])
        rates = picture.tape.rate_hz
        buses = picture.snapshot.manifest.buses
        for row in range(min(len(buses), self._rows)):
            share = row == self._rows - 1 and len(buses) > self._rows
            rate = rates[row:].sum(axis=0) if share else rates[row]
            label = f"{len(buses) - row} more" if share else buses[row].name
            role = "dim" if share else self.palette.bus(row)
            rows[row].put(1, label, style(role), LABEL - 2)
            self._write(rows[row], _curve(rate[: self.cells]), role, dragged)
            self._holes(rows[row], picture, None if share else buses[row].name)
        self._flags(rows[-2], picture, dragged)
        self._axis(rows[-1], picture, width)
        return lines

    def _overview(self, line: Line, picture: Picture, series: Series) -> None:
        style = self.palette.style
        line.put(2, "all", style("dim"), 5)
        inside = self._dragged(picture.whole) if self._over else None
        if inside is None:
            low = self._cell(picture.whole, picture.lens.start)
            inside = low, max(self._cell(picture.whole, picture.lens.end - 1) + 1, low + 1)
        line.ground(style("text", "raised"), LABEL + inside[0], LABEL + inside[1])
        self._write(line, _curve(series.rate_hz.sum(axis=0)[: self.cells]), "dim", inside)
        for cell in series.faults[: self.cells].nonzero()[0].tolist():
            on = "raised" if inside[0] <= cell < inside[1] else "ink"
            line.put(LABEL + cell, "│", style("coral", on), 1)
        for place, sign in ((LABEL + inside[0] - 1, "["), (LABEL + inside[1], "]")):
            line.put(place, sign, style("brass", bold=True), 1)

    def _dragged(self, span: Span) -> tuple[int, int] | None:
        """The cells that are being dragged over."""
        return None if self._drag is None else (min(self._drag), max(self._drag) + 1)

    def _cell(self, span: Span, time: int) -> int:
        return (time - span.start) * self.cells // max(span.end - span.start, 1)

    def _write(self, line: Line, text: str, role: str, raised: tuple[int, int] | None) -> None:
        low, high = raised or (-1, -1)
        for i, char in enumerate(text):
            if char != " ":
                line.put(LABEL + i, char, self.palette.style(role, "raised" if low <= i < high else "ink"), 1)

    def _holes(self, line: Line, picture: Picture, bus: str | None) -> None:
        """Where nothing could be recorded of a bus; of any for the row that several share."""
        if not picture.snapshot.manifest.is_dated:
            # Holes are known by this machine's clock alone.
            return
        for hole in holes_of(picture):
            if bus is None or bus in hole.buses:
                low, high = self._cell(picture.lens, hole.start), self._cell(picture.lens, hole.end)
                for cell in range(max(low, 0), min(max(high, low + 1), self.cells)):
                    line.put(LABEL + cell, HOLE, self.palette.style("coral"), 1)

    def _flags(self, line: Line, picture: Picture, raised: tuple[int, int] | None) -> None:
        low, high = raised or (-1, -1)

        def on(cell: int) -> str:
            return "raised" if low <= cell < high else "ink"

        for cell in picture.tape.faults[: self.cells].nonzero()[0].tolist():
            line.put(LABEL + cell, "│", self.palette.style("coral", on(cell), True), 1)
        for mark in picture.snapshot.manifest.marks:
            cell = self._cell(picture.lens, mark.time)
            if 0 <= cell < self.cells:
                line.put(LABEL + cell, f"⚑{mark.number}", self.palette.style("brass", on(cell)))

    def _axis(self, line: Line, picture: Picture, width: int) -> None:
        start = (picture.lens.start - picture.zero) / NS_PER_S
        length = (picture.lens.end - picture.lens.start) / NS_PER_S
        step = nice_step(length, max(self.cells // 14, 1))
        k = -int(-start // step)
        while length and k * step <= start + length:
            place = LABEL + int((k * step - start) / length * self.cells)
            if place < width - 6:
                line.put(place, f"{tick_words(k * step, step)}s", self.palette.style("dim"))
            k += 1

    def _time_at(self, cell: float) -> int:
        assert self.picture is not None
        span = self.picture.whole if self._over else self.picture.lens
        share = min(max(cell / self.cells, 0.0), 1.0)
        return span.start + int((span.end - span.start) * share)

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Begin to drag."""
        if self.picture is not None and event.button == 1:
            cell = min(max(event.x - LABEL, 0), self.cells - 1)
            self._drag = (cell, cell)
            self._over = self._zoomed and event.y == 0
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
            self._look_at(Span(moment, moment))
        else:
            self._look_at(Span(self._time_at(low), self._time_at(high + 1)))
        self.repaint()


def _curve(rate: Any) -> str:
    """Rates as blocks; the highest hundredth may touch the ceiling, so that one burst does not flatten the rest."""
    top = sorted(rate.tolist())[int(0.99 * (len(rate) - 1))] * 1.25 if len(rate) else 0.0
    return spark(rate, top or 1.0)
