"""Health's list of fault classes."""

from __future__ import annotations

from collections.abc import Sequence

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.table import Column, fit, header, write_cells
from keel.measure.faults import FaultClass
from keel.media.every import key_words

COLUMNS = (
    Column("class", "faults", 22),
    Column("count", "count", 6, True),
    Column("first", "first s", 10, True),
    Column("last", "last s", 10, True),
    Column("rate", "per min", 8, True, drop=2),
    Column("worst", "most on", 17, drop=1),
)


def fault_lines(
    here: Here, faults: Sequence[FaultClass], in_hand: int | None, width: int, height: int, room: int
) -> list[Line]:
    """Titles and classes, at most ``room`` of them; ``in_hand`` is the one, None if another list has the keys."""
    columns = fit(COLUMNS, width - 5)
    lines = [header(here.palette, width, columns, 3, lit="class" if in_hand is not None else "")]
    lines += [Line(width, here.style("text")) for _ in range(height - 1)]
    zero = here.picture.zero
    for i, fault in enumerate(faults[:room]):
        on = "raised" if i == in_hand else "ink"
        line = lines[1 + i]
        line.ground(here.style("text", on), 1, width - 1)
        if i == in_hand:
            line.put(1, "▌", here.style("brass", on))
        cells = {
            "class": (f"✕ {fault.fault.title}", "coral"),
            "count": (words.count(fault.count), "strong"),
            "first": (words.seconds(fault.first_time - zero), "text"),
            "last": (words.seconds(fault.last_time - zero), "text"),
            "rate": (f"{fault.per_minute:.1f}", "dim"),
            "worst": (key_words(fault.worst_key), "text"),
        }
        write_cells(here.palette, line, columns, 3, cells, on)
    if not faults:
        lines[2].put(3, "· no faulty frame in the lens", here.style("dim"))
    for line in lines:
        line.put(0, "│", here.style("line"))
    return lines
