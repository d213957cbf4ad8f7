"""The board of the Values view: a row for each signal, grouped under their messages or on a board of one's own."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from keel.app.desk.picture import Picture
from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.plots import COLOURS, value_words
from keel.app.paint.strokes import spark
from keel.app.paint.table import Column, fit, grow, header, row_line, write_cells
from keel.app.views.values.choices import Name
from keel.measure.courses import Course
from keel.signals.dictionary import Message
from keel.signals.signal import GLYPHS, Signal, Standing

MOST_UNNAMED = 200
"""Of so many identifiers that have no name what their headers say is shown; an ask leaves others."""
COLUMNS = (
    Column("plot", "", 2),
    Column("name", "signal", 20),
    Column("now", "now", 15, True),
    Column("unit", "unit", 6),
    Column("least", "min", 10, True, drop=3),
    Column("mean", "mean", 10, True, drop=4),
    Column("most", "max", 10, True, drop=2),
    Column("trend", "trend", 16, drop=5),
    Column("age", "age", 9, True, drop=1),
    Column("frames", "frames", 9, True, drop=7),
    Column("missing", "n/a", 9, True, drop=6),
    Column("differs", " display, off by", 20, drop=8),
)


@dataclass(frozen=True)
class Row:
    """A row: a heading (a message or a board) or a signal."""

    title: str
    name: Name | None = None
    message: Message | None = None
    signal: Signal | None = None

    @property
    def full(self) -> str:
        """``Message.signal``."""
        return f"{self.message.name}.{self.signal.name}" if self.message and self.signal else self.title


def rows_of(picture: Picture, board: str | None, counters: bool) -> tuple[Row, ...]:
    """All rows: by message, or those of a board of one's own; without counters and checksums unless wanted."""
    rows: list[Row] = []
    boards = {p.name: p.signals for p in picture.snapshot.manifest.boards}
    wanted = boards.get(board, ()) if board is not None else None
    if board is not None:
        rows.append(Row(f"board {board}"))
    for key, message in sorted(_messages(picture), key=lambda item: (item[0] >> 56, item[1].name.lower())):
        found = []
        for signal in message.signals:
            full = f"{message.name}.{signal.name}"
            if wanted is not None and full not in wanted:
                continue
            if wanted is None and not counters and signal.role in ("counter", "checksum", "constant", "selector"):
                continue
            found.append(Row(full, (key, signal.name), message, signal))
        if found and wanted is None:
            rows.append(Row(f"{picture.bus_name(key)}  {message.name}"))
        rows += found
    return tuple(rows)


def _messages(picture: Picture) -> Iterator[tuple[int, Message]]:
    """What is known of the identifiers that the ask leaves, and what the headers of some say."""
    spoken = 0
    for key in picture.census:
        message = picture.messages.get(key)
        if message is None and spoken >= MOST_UNNAMED:
            continue
        said = picture.snapshot.book.spoken(key)
        spoken += message is None and said is not None
        if said is not None:
            yield key, said


def heading(here: Here) -> Line:
    """The columns' titles."""
    return header(here.palette, here.width, _fitted(here.width), 2)


def _fitted(width: int) -> list[tuple[Column, int]]:
    placed = fit(COLUMNS, width - 4)
    used = placed[-1][1] + placed[-1][0].width
    return grow(placed, "name", min(max(width - 4 - used, 0), 18))


def board_line(
    here: Here,
    row: Row,
    course: Course | None,
    colour: int | None,
    in_hand: bool,
    whole: bool,
    expected: tuple[float, float | None] | None,
) -> Line:
    """A signal's row.

    Args:
        here: What is on the screen.
        row: The signal.
        course: What it says; None while that is not known yet.
        colour: Its place among the plots, None if it is not drawn.
        in_hand: Whether it is in hand.
        whole: Whether the full name is shown, as on a board of one's own.
        expected: What it was expected to be, and what it was then.
    """
    picture = here.picture
    end = picture.snapshot.span.end if picture.snapshot.live and not picture.wish.held else picture.lens.end
    line, on = row_line(here.palette, here.width, in_hand)
    signal = row.signal
    assert signal is not None and row.name is not None
    cells: dict[str, tuple[str, str]] = {
        "plot": (
            "━━" if colour is not None else f"{GLYPHS[signal.role]} ",
            COLOURS[colour] if colour is not None else "faint",
        ),
        "name": (row.full if whole else f"  {signal.name}", "text"),
        "unit": (signal.unit, "dim"),
    }
    if course is None:
        cells["now"] = ("…", "faint")
    else:
        cells |= _course_cells(signal, course, end)
    if expected is not None:
        said, then = expected
        off = "—" if then is None else f"{'+' if then >= said else '−'}{signal.number_words(abs(then - said))}"
        cells["differs"] = (f" {signal.number_words(said)}, {off}", "brass")
    write_cells(here.palette, line, _fitted(here.width), 2, cells, on, "now")
    return line


def _course_cells(signal: Signal, course: Course, end: int) -> dict[str, tuple[str, str]]:
    if course.seen is None:
        return {"now": ("silent", "dim"), "age": ("—", "faint")}
    if course.standing == Standing.NOT_AVAILABLE:
        now = ("not available", "brass")
    elif course.standing == Standing.ERROR:
        now = ("✕ error", "coral")
    else:
        now = (value_words(signal, course.now), "strong")
    cells = {"now": now, "age": (words.length(max(end - course.seen, 0)), "dim")}
    if course.least is not None and course.most is not None and course.mean is not None:
        if signal.texts and len(signal.texts) > 1:
            cells["least"] = (value_words(signal, course.least), "dim")
            cells["most"] = (value_words(signal, course.most), "dim")
        else:
            cells["least"] = (signal.number_words(course.least), "text")
            cells["mean"] = (signal.number_words(course.mean), "text")
            cells["most"] = (signal.number_words(course.most), "text")
        cells["trend"] = (_trend(course), "sea")
    cells["frames"] = (words.tally(course.count), "dim")
    if course.absent or course.wrong:
        parts = [f"{words.tally(course.absent)}×" if course.absent else "", f"✕ {course.wrong}" if course.wrong else ""]
        cells["missing"] = ("  ".join(filter(None, parts)), "brass")
    return cells


def _trend(course: Course) -> str:
    values = course.trend
    there = np.isfinite(values)
    low, high = (float(values[there].min()), float(values[there].max())) if there.any() else (0.0, 0.0)
    if high <= low:
        return "".join("▄" if t else " " for t in there.tolist())
    # The least is an eighth high, so that it is told from no value at all.
    shown = np.where(there, (values - low) / (high - low) * 0.86 + 0.14, 0.0)
    return spark(shown.tolist(), 1.0)
