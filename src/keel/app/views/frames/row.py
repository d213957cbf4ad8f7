"""One row of Frames."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import isfinite
from typing import TYPE_CHECKING

from keel.app.desk.frame_pages import Page
from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.payload_cell import SIZES, write_payload
from keel.app.paint.ribbon import kept_words
from keel.app.paint.table import Column, write_cells
from keel.app.views.frames.choices import FramesChoices
from keel.media.every import brief_of, format_ident
from keel.model.faults import SPOILS_NOTHING, Fault
from keel.model.frames import Flag

if TYPE_CHECKING:
    from keel.store.waveform_entries import LineEntry


def frame_line(
    here: Here,
    page: Page,
    i: int,
    columns: Sequence[tuple[Column, int]],
    table: int,
    in_hand: bool,
    choices: FramesChoices,
    notes: Mapping[int, str],
) -> Line:
    """The row of a frame of the screenful; ``table`` is the width of the list."""
    picture, style, batch = here.picture, here.style, page.batch
    on = "raised" if in_hand else "ink"
    line = here.line()
    faults = int(batch.faults[i])
    if in_hand:
        line.ground(style("text", on), 0, table - 1)
        line.put(0, "▌", style("brass", on))
    if faults:
        line.put(1, "✕", style("coral", on))
    elif int(page.numbers[i]) in notes:
        line.put(1, "✎", style("brass", on))
    key, time = int(batch.keys()[i]), int(batch.time[i])
    bus, flags = int(batch.bus[i]), int(batch.flags[i])
    start, digits = picture.zero, time_decimals(picture.snapshot.manifest.lines)
    cells: dict[str, tuple[str, str]] = {
        "number": (words.count(int(page.numbers[i]) + 1), "dim"),
        "clock": (words.of_day(time, digits), "text"),
        "elapsed": (f"{(time - start) / 1e9:.{digits}f}", "text"),
        "zeroed": (f"{(time - (start if here.state.zero is None else here.state.zero)) / 1e9:+.{digits}f}", "text"),
        "shown": (words.step(int(page.since_shown[i]), digits), "dim"),
        "same": (words.step(int(page.since_same[i]), digits), "dim"),
        "bus": (f" {picture.snapshot.manifest.buses[bus].name}", here.palette.bus(bus)),
        "id": (format_ident(int(batch.form[i]), int(batch.ident[i])), "strong"),
        "name": picture.called(key, batch.payload(i)),
        "header": (brief_of(batch.slice(i, i + 1), picture.snapshot.manifest.buses[bus]), "dim"),
        "dir": ("tx" if flags & Flag.TX else "rx", "dim"),
        "len": (str(int(page.sizes[i])), "dim"),
        "volts": ("  ".join(_volts(values[i]) for _, values in page.volts), "dim"),
        "kept": (kept_words(batch.payload(i), picture.messages.get(key)), "sea"),
    }
    write_cells(here.palette, line, columns, 2, cells, on, "id")
    for column, at in columns:
        if column.name == "payload":
            _write_payload(here, line, 2 + at, column.width, page, i, on, choices)
    return line


def _spoiled(_: int) -> str:
    """The colour of a byte that may be wrong."""
    return "coral"


FAST = 1_000_000
"""A line with more bits a second has frames that are told apart by nanoseconds alone."""


def time_decimals(lines: Sequence[LineEntry]) -> int:
    """Decimals of times in seconds: microseconds, or nanoseconds where a line that was read is that fast."""
    return 9 if any(line.rate > FAST for line in lines) else 6


def _volts(value: float) -> str:
    return f"{value:.2f}" if isfinite(value) else "—"


def _write_payload(
    here: Here, line: Line, at: int, width: int, page: Page, i: int, on: str, choices: FramesChoices
) -> None:
    batch, before = page.batch, page.before[i]
    payload = batch.payload(i)
    faults = int(batch.faults[i])

    def role(n: int) -> str:
        return "brass" if before is not None and before[n : n + 1] != payload[n : n + 1] else "text"

    if faults:
        # The payload comes first, in full: what is wrong is said where room is left, and by the sign ahead of the row.
        # What spoils nothing leaves the bytes as those of any frame.
        title = ", ".join(f.title for f in Fault if faults & f)
        taken = min(len(payload) * SIZES[choices.form], width)
        of_byte = role if faults & ~SPOILS_NOTHING == 0 else _spoiled
        write_payload(line, at, width, payload, choices.form, of_byte, here.palette, on, choices.shift)
        if not payload or width - taken > len(title):
            line.put(at + taken + (1 if payload else 0), title, here.style("coral", on), width - taken)
        return
    if int(batch.flags[i]) & Flag.REMOTE:
        line.put(at, f"remote, DLC {int(batch.dlc[i])}", here.style("dim", on), width)
        return
    write_payload(line, at, width, payload, choices.form, role, here.palette, on, choices.shift)
