"""One row of Watch: an identifier's numbers and its newest payload, or a group's title."""

from __future__ import annotations

from keel.app.desk.picture import Picture
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.palette import Palette
from keel.app.paint.payload_cell import write_payload
from keel.app.paint.ribbon import kept_words
from keel.app.paint.strokes import spark
from keel.app.paint.table import Column
from keel.app.views.watch.roster import Heading, per_second
from keel.measure.census import Tally
from keel.model.identity import key_words

FRESH_NS = (400_000_000, 1_500_000_000)


def heading_line(
    palette: Palette, picture: Picture, heading: Heading, columns: list[tuple[Column, int]], width: int
) -> Line:
    """A group's title, with what its members add up to."""
    line = Line(width, palette.style("text", "panel"))
    line.put(1, f"{heading.title}  {len(heading.keys)}", palette.style("sea", "panel", True), width - 2)
    source = picture.since if picture.since is not None else picture.census
    tallies = [source[key] for key in heading.keys if key in source]
    frames = sum(tally.frames for tally in tallies)
    faults = sum(tally.faults for tally in tallies)
    cells = {
        "frames": words.tally(frames),
        "rate": f"{sum(per_second(picture, picture.census[t.key], t.frames) for t in tallies):.1f}",
        "moved": words.tally(sum(tally.changes for tally in tallies)),
        "faults": f"✕ {faults}" if faults else "",
    }
    for column, at in columns:
        if column.name in cells:
            role = "coral" if column.name == "faults" else "dim"
            line.put(2 + at, cells[column.name], palette.style(role, "panel"), column.width, column.right)
    return line


def row_line(
    palette: Palette, picture: Picture, key: int, columns: list[tuple[Column, int]], width: int, picked: bool,
    form: str, silent: int | None,
) -> Line:  # fmt: skip
    """An identifier's row."""
    style = palette.style
    on = "raised" if picked else "ink"
    line = Line(width, style("text", on))
    if picked:
        line.put(0, "▌", style("brass", on))
    tally = picture.census[key]
    bus = key >> 56
    quiet = silent is not None
    since = picture.since
    counted = tally if since is None else since.get(key)
    frames, changes = (counted.frames, counted.changes) if counted is not None else (0, 0)
    if picture.wish.baseline is not None and tally.first >= picture.wish.baseline:
        line.put(1, "+", style("brass", on, True))
    cycle = tally.cycle
    text = "faint" if quiet else "text"
    cells: dict[str, tuple[str, str]] = {
        "bus": (f" {picture.bus_name(key)}", palette.bus(bus)),
        "id": (key_words(key), "dim" if quiet else "strong"),
        "name": (picture.name(key), text if key in picture.messages else "faint"),
        "frames": (words.tally(frames), text if frames else "faint"),
        "rate": (f"{per_second(picture, tally, frames):.1f}", text),
        "cycle": (words.cycle(cycle.mean) if cycle.count else "·", text),
        "jitter": _jitter(tally),
        "activity": _activity(palette, picture, key, bus, silent),
        "len": (str(len(tally.payload)), "dim"),
        "moved": (words.tally(changes), text if changes else "faint" if counted is None else "dim"),
        "faults": (f"✕ {tally.faults}", "coral") if tally.faults else ("·", "faint"),
        "kept": (kept_words(tally.payload, picture.messages.get(key)), "sea"),
    }
    for column, at in columns:
        if column.name == "payload":
            role = _Roles(picture, key, tally, quiet)
            write_payload(line, 2 + at, column.width, tally.payload, form, role, palette, on)
            continue
        cell, colour = cells[column.name]
        line.put(2 + at, cell, style(colour, on, column.name == "id"), column.width, column.right)
    return line


def _activity(palette: Palette, picture: Picture, key: int, bus: int, silent: int | None) -> tuple[str, str]:
    if silent is not None:
        return f"silent {words.length(picture.lens.end - silent)}", "brass"
    if key not in picture.activity:
        return "", palette.bus(bus)
    return spark(picture.activity[key], 1.5 * max(int(picture.activity[key].max()), 1)), palette.bus(bus)


def _jitter(tally: Tally) -> tuple[str, str]:
    cycle = tally.cycle
    if cycle.count < 2:
        return "·", "faint"
    loud = cycle.deviation > 0.1 * max(cycle.mean, 1)
    return f"± {cycle.deviation / 1e6:.1f}", "brass" if loud else "dim"


class _Roles:
    """The colour of each byte: by how fresh its change is, or, hushed, by whether it reacts."""

    def __init__(self, picture: Picture, key: int, tally: Tally, quiet: bool) -> None:
        self._changed, self._now, self._quiet = tally.changed_at, picture.lens.end, quiet
        self._hush = picture.hush is not None
        self._flips = picture.hush.reacting.get(key) if picture.hush is not None else None

    def __call__(self, n: int) -> str:
        if self._hush:
            reacts = self._flips is not None and 8 * n < len(self._flips) and self._flips[8 * n : 8 * n + 8].any()
            return "brass" if reacts else "faint"
        changed = int(self._changed[n]) if n < len(self._changed) else 0
        age = self._now - changed
        if not changed or self._quiet:
            return "dim"
        if age < FRESH_NS[0]:
            return "brass"
        return "ember" if age < FRESH_NS[1] else "text"
