"""The messages in the lens as a table: when each begins and ends, how long it is, the silence before it, its levels."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.payload_cell import write_payload
from keel.app.paint.table import Column, fit, grow, header, window, write_cells
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.layout import across
from keel.app.views.line.moments import clock_of

if TYPE_CHECKING:
    from keel.app.views.line.wants import LineShown

COLUMNS = (
    Column("number", "number", 9, True, drop=3),
    Column("bus", "bus", 10, drop=2),
    Column("id", "identifier", 10, True),
    Column("begin", "begins", 13, True),
    Column("end", "ends", 13, True, drop=4),
    Column("length", "length", 10, True),
    Column("gap", "silence before", 14, True),
    Column("low", "low", 9, True, drop=5),
    Column("high", "high", 9, True, drop=5),
    Column("payload", "payload", 12, drop=1),
)


def row_in_hand(shown: LineShown, number: int | None) -> int:
    """The place of the frame in hand among the rows; 0 where it is not among them."""
    return next((place for place, row in enumerate(shown.rows) if row["number"] - 1 == number), 0)


def message_lines(here: Here, shown: LineShown, choices: LineChoices, rows: int) -> list[Line]:
    """The table: as many messages as there is room for, about the one in hand."""
    clock = clock_of(here, across(here))
    heading = here.line()
    at = heading.put(2, "messages in the lens", here.style("strong", bold=True)) + 3
    if shown.many:
        said = f"{words.count(shown.many)}: too many to list; + narrows the lens"
    else:
        said = f"{words.count(len(shown.rows))}   times and lengths in {clock.unit}"
    heading.put(at, said, here.style("dim"))
    if not shown.rows or rows < 3:
        return [heading]
    has_volts = any(row["low"] is not None or row["high"] is not None for row in shown.rows)
    wanted = tuple(one for one in COLUMNS if has_volts or one.name not in ("low", "high"))
    placed = fit(wanted, here.width - 4)
    spare = here.width - 4 - placed[-1][1] - placed[-1][0].width
    placed = grow(placed, "payload", spare) if spare > 0 else placed
    room = rows - 2
    in_hand = row_in_hand(shown, here.state.frame)
    top = window(in_hand, max(in_hand - room // 2, 0), room, len(shown.rows))
    lines = [heading, header(here.palette, here.width, placed, 2)]
    payloads = {frame.number: frame for frame in shown.frames}
    for place, row in enumerate(shown.rows[top : top + room], top):
        is_held = row["number"] - 1 == here.state.frame
        on = "raised" if is_held else "ink"
        line = here.line(on)
        frame = payloads.get(row["number"] - 1)
        if frame is not None and frame.faults:
            line.put(1, "✕", here.style("coral", on))
        if place == in_hand and is_held:
            line.put(0, "▌", here.style("brass", on))
        write_cells(here.palette, line, placed, 2, _cells(row, clock), on, "id")
        _payload(here, line, placed, frame.payload if frame is not None else b"", choices, on)
        lines.append(line)
    return lines


def _cells(row: dict[str, Any], clock: Any) -> dict[str, tuple[str, str]]:
    def lasting(ns: float | None) -> str:
        return "—" if ns is None else clock.lasting(ns)

    def volts(value: float | None) -> str:
        return "—" if value is None else f"{value:.3f} V"

    return {
        "number": (words.count(row["number"]), "dim"),
        "bus": (row["bus"], "text"),
        "id": (row["id"], "strong"),
        "begin": (clock.number(row["start"]), "text"),
        "end": ("—" if row["end"] is None else clock.number(row["end"]), "dim"),
        "length": (lasting(row["length"]), "text"),
        "gap": (lasting(row["gap"]), "dim"),
        "low": (volts(row["low"]), "dim"),
        "high": (volts(row["high"]), "dim"),
    }


def _payload(
    here: Here, line: Line, placed: Sequence[tuple[Column, int]], payload: bytes, choices: LineChoices, on: str
) -> None:
    for column, at in placed:
        if column.name == "payload":
            write_payload(line, 2 + at, column.width, payload, choices.form, lambda _: "text", here.palette, on)
