"""One row of Watch: an identifier's numbers and its newest payload, or a group's title."""

from __future__ import annotations

from collections.abc import Sequence

from keel.app.frame.helm import Here
from keel.app.paint import table, words
from keel.app.paint.canvas import Line
from keel.app.paint.payload_cell import write_payload
from keel.app.paint.ribbon import kept_words
from keel.app.paint.strokes import spark
from keel.app.paint.table import Column, write_cells
from keel.app.views.watch.roster import Heading, per_second
from keel.app.views.watch.wants import Watched
from keel.measure.census import Tally
from keel.media.every import brief_of, key_words

FRESH_NS = (400_000_000, 1_500_000_000)


def heading_line(here: Here, watched: Watched, heading: Heading, columns: Sequence[tuple[Column, int]]) -> Line:
    """A group's title, with what its members add up to."""
    picture, palette = here.picture, here.palette
    line = here.line("panel")
    line.put(1, f"{heading.title}  {len(heading.keys)}", palette.style("sea", "panel", True), here.width - 2)
    source = watched.since if watched.since is not None else picture.census
    tallies = [source[key] for key in heading.keys if key in source]
    frames = sum(tally.frames for tally in tallies)
    faults = sum(tally.faults for tally in tallies)
    baseline = here.state.baseline
    rates = (per_second(picture.census[t.key], picture.lens, baseline, t.frames) for t in tallies)
    cells = {
        "frames": (words.tally(frames), "dim"),
        "rate": (f"{sum(rates):.1f}", "dim"),
        "moved": (words.tally(sum(tally.changes for tally in tallies)), "dim"),
        "faults": (f"✕ {faults}" if faults else "", "coral"),
    }
    write_cells(palette, line, columns, 2, cells, "panel")
    return line


def row_line(
    here: Here,
    watched: Watched,
    key: int,
    columns: Sequence[tuple[Column, int]],
    in_hand: bool,
    form: str,
    silent: int | None,
) -> Line:
    """An identifier's row; ``silent`` is since when it is, if it is."""
    picture, palette = here.picture, here.palette
    line, on = table.row_line(palette, here.width, in_hand)
    tally = picture.census[key]
    bus = key >> 56
    quiet = silent is not None
    since = watched.since
    counted = tally if since is None else since.get(key)
    frames, changes = (counted.frames, counted.changes) if counted is not None else (0, 0)
    baseline = here.state.baseline
    if baseline is not None and tally.first >= baseline:
        line.put(1, "+", palette.style("brass", on, True))
    cycle = tally.cycle
    text = "faint" if quiet else "text"
    cells: dict[str, tuple[str, str]] = {
        "bus": (f" {picture.bus_name(key)}", palette.bus(bus)),
        "id": (key_words(key), "dim" if quiet else "strong"),
        "name": picture.called(key, tally.payload),
        "header": (_header(here, tally), "dim"),
        "frames": (words.tally(frames), text if frames else "faint"),
        "rate": (f"{per_second(tally, picture.lens, baseline, frames):.1f}", text),
        "cycle": (words.cycle(cycle.mean) if cycle.count else "·", text),
        "jitter": _jitter(tally),
        "activity": _activity(here, watched, key, silent),
        "len": (str(tally.size), "dim"),
        "moved": (words.tally(changes), text if changes else "faint" if counted is None else "dim"),
        "faults": (f"✕ {tally.faults}", "coral") if tally.faults else ("·", "faint"),
        "kept": (kept_words(tally.payload, picture.messages.get(key)), "sea"),
    }
    write_cells(palette, line, columns, 2, cells, on, "id")
    for column, at in columns:
        if column.name == "payload":
            role = _Roles(here, watched, key, tally, quiet)
            write_payload(line, 2 + at, column.width, tally.payload, form, role, palette, on)
    return line


def _activity(here: Here, watched: Watched, key: int, silent: int | None) -> tuple[str, str]:
    if silent is not None:
        return f"silent {words.length(here.picture.lens.end - silent)}", "brass"
    role = here.palette.bus(key >> 56)
    if key not in watched.activity:
        return "", role
    return spark(watched.activity[key], 1.5 * max(int(watched.activity[key].max()), 1)), role


def _header(here: Here, tally: Tally) -> str:
    newest = tally.newest
    bus = here.picture.snapshot.manifest.buses[tally.key >> 56]
    return brief_of(newest, bus) if newest is not None else ""


def _jitter(tally: Tally) -> tuple[str, str]:
    cycle = tally.cycle
    if cycle.count < 2:
        return "·", "faint"
    loud = cycle.deviation > 0.1 * max(cycle.mean, 1)
    return f"{cycle.deviation / 1e6:.1f}", "brass" if loud else "dim"


class _Roles:
    """The colour of each byte: by how fresh its change is, or, hushed, by whether it reacts."""

    def __init__(self, here: Here, watched: Watched, key: int, tally: Tally, quiet: bool) -> None:
        self._changed, self._now, self._quiet = tally.changed_at, here.picture.lens.end, quiet
        self._hush = watched.hush is not None
        self._flips = watched.hush.reacting.get(key) if watched.hush is not None else None

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
