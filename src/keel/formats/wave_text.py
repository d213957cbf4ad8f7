"""Waveforms as delimited text, as instruments export them: a time column or a fixed interval, channels beside it.

Lines before the numbers are headers: the last one with as many cells names the columns, and units are taken from names
(``CH1 (mV)``, ``time [us]``). Where there is no time column, a header says the interval or the rate. A channel of
nothing but 0 and 1 is logic. A decimal comma is told by semicolons or tabs between the cells.
"""

from __future__ import annotations

import codecs
import mmap
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.formats.wave_cells import Even, Progress, Release, read_cells, read_evenly, steps_of
from keel.formats.wave_taken import AS_FOUND, EVERY, VOLTS, Taken
from keel.model.frames import Bytes, Times
from keel.model.units import TIME_NS
from keel.model.waveform import Analog, Channel, Logic

NAME = "volts as text"
HEAD_LINES, NEWLINE = 200, 10
_TIME = re.compile(r"^(t|time|zeit|timestamp|x|sec(onds?)?|s|ms|us|µs|ns)\b", re.I)
_UNIT = re.compile(r"[\[(]\s*([^\])]+?)\s*[\])]|(?:[,_ /]|\bin\b)\s*(s|ms|us|µs|μs|ns|v|mv|uv)\s*$", re.I)
_NUMBER = r"(\d[\d.]*(?:,\d+)?(?:[eE][+-]?\d+)?)"
_INTERVAL = re.compile(rf"(interval|step|period|increment|dt)\D*?{_NUMBER}[\s,;\[(]*(s|ms|us|µs|ns)?\b", re.I)
_RATE = re.compile(rf"(sample\s*rate|rate|frequency)\D*?{_NUMBER}[\s,;\[(]*(hz|khz|mhz|sa/s|s/s)?", re.I)
_PER_S = {"hz": 1.0, "khz": 1e3, "mhz": 1e6, "sa/s": 1.0, "s/s": 1.0}
REGULAR = 0.02
"""Times are regular where steps differ by no more than that from the usual one."""


@dataclass(frozen=True)
class Shape:
    """How a text lies: lines before the numbers, separator, decimal comma, names, whether it has times, ns a step."""

    skip: int
    separator: str
    comma: bool
    names: tuple[str, ...]
    has_time: bool
    step_ns: float


def recognises(head: bytes) -> str | None:
    """Why it is one, if it is: numbers in columns."""
    try:
        shape = shape_of(head)
    except InputError:
        return None
    return f"numbers in {len(shape.names)} columns" if shape.has_time or shape.step_ns else None


def shape_of(head: bytes, where: str = "the file", taken: Taken = AS_FOUND) -> Shape:
    """How a text lies, by its first lines, as far as nobody said it.

    Raises:
        InputError: it holds no numbers in columns.
    """
    lines = head.decode("utf-8-sig", "replace").split("\n")[:HEAD_LINES]
    best: tuple[int, str, bool] | None = None
    for separator, comma in _ways(taken):
        at = next((n for n, line in enumerate(lines) if _numbers(line, separator, comma)), len(lines))
        at = at if taken.skip is None else min(taken.skip, len(lines) - 1)
        below = [_numbers(line, separator, comma) for line in lines[at : at + 8] if line.strip()]
        if below and sum(below) >= len(below) / 2:
            cells = len(_cells(lines[at], separator))
            if cells > 1 or best is None:
                best = (at, separator, comma)
                if cells > 1:
                    break
    if best is None:
        raise InputError(
            where, "holds no numbers in columns", "a time column and channels, or an interval and channels"
        )
    at, separator, comma = best
    count = len(_cells(lines[at], separator))
    titles = [_cells(line, separator) for line in lines[:at] if line.strip()]
    named = next((cells for cells in reversed(titles) if len(cells) == count and any(map(str.strip, cells))), None)
    # A line of units alone below the names.
    units = [""] * count
    if named is not None and all(cell.strip(" []()").lower() in (*TIME_NS, *VOLTS) for cell in named):
        units = [cell.strip(" []()") for cell in named]
        above = [cells for cells in titles if len(cells) == count and cells != named]
        named = above[-1] if above else None
    names = tuple(cell.strip().strip('"') for cell in named) if named is not None else ()
    full = tuple(f"{n} ({u})" if u and not _UNIT.search(n) else n for n, u in zip(names, units, strict=False))
    rows = [[_number(cell, comma) for cell in _cells(line, separator)] for line in lines[at : at + 50] if line.strip()]
    firsts = [row[0] for row in rows if row and row[0] is not None]
    later = [b > a for a, b in zip(firsts, firsts[1:], strict=False)]
    climbs = len(later) > 1 and sum(later) >= 0.8 * len(later)
    step = taken.interval_ns or _step("\n".join(lines[:at]))
    has_time = count > 1 and climbs and (step == 0.0 or bool(full and _TIME.match(full[0])))
    if taken.has_time is not None:
        has_time = taken.has_time and count > 1
    if not full:
        full = ("time", *(f"CH{n}" for n in range(1, count))) if has_time else tuple(f"CH{n + 1}" for n in range(count))
    return Shape(at, separator, comma, full, has_time, 0.0 if has_time else step)


def _ways(taken: Taken) -> list[tuple[str, bool]]:
    """Separators and whether decimals have a comma, to be tried in that order."""
    ways = [(";", False), (";", True), ("\t", False), ("\t", True), (",", False), (" ", False)]
    kept = [way for way in ways if taken.separator in ("", way[0]) and taken.comma in (None, way[1])]
    return kept or [(taken.separator or " ", bool(taken.comma))]


def _cells(line: str, separator: str) -> list[str]:
    return line.split() if separator == " " else line.rstrip("\r\n").split(separator)


def _number(cell: str, comma: bool) -> float | None:
    text = cell.strip().strip('"')
    text = text.replace(",", ".") if comma else text
    try:
        return float(text)
    except ValueError:
        return None


def _numbers(line: str, separator: str, comma: bool) -> bool:
    cells = [cell for cell in _cells(line, separator) if cell.strip()]
    return bool(cells) and all(_number(cell, comma) is not None for cell in cells)


def _step(head: str) -> float:
    """The interval that headers tell, in ns; 0 if none does."""
    found = _INTERVAL.search(head)
    if found:
        value = _number(found[2], "," in found[2])
        return value * TIME_NS[(found[3] or "s").lower()] if value else 0.0
    found = _RATE.search(head)
    if found:
        value = _number(found[2], "," in found[2])
        return 1e9 / (value * _PER_S[(found[3] or "hz").lower()]) if value else 0.0
    return 0.0


def read_wave_text(path: Path, progress: Progress = lambda *_: None, taken: Taken = AS_FOUND) -> list[Channel]:
    """The channels of a text.

    Args:
        path: The file.
        progress: Called with bytes done and in all.
        taken: What a person says of it.

    Raises:
        InputError: it cannot be read, or holds no waveform.
    """
    try:
        with path.open("rb") as file:
            size = path.stat().st_size
            if not size:
                return parse_wave_text(np.zeros(0, np.uint8), str(path), progress, taken)
            mapped = mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a waveform as text") from None

    def release(begin: int, stop: int) -> None:
        # Whole pages, and none that another part shares.
        first, last = -(-begin // mmap.PAGESIZE) * mmap.PAGESIZE, stop // mmap.PAGESIZE * mmap.PAGESIZE
        if last > first:
            mapped.madvise(mmap.MADV_DONTNEED, first, last - first)

    return parse_wave_text(np.frombuffer(mapped, np.uint8), str(path), progress, taken, release)


def parse_wave_text(
    data: Bytes,
    where: str = "the file",
    progress: Progress = lambda *_: None,
    taken: Taken = AS_FOUND,
    release: Release = lambda *_: None,
) -> list[Channel]:
    """The channels of a text's bytes.

    Raises:
        InputError: it holds no waveform.
    """
    shape = shape_of(data[: 1 << 16].tobytes(), where, taken)
    begin = _behind_lines(data, shape.skip)
    decimal = "," if shape.comma else "."
    if not (shape.has_time or shape.step_ns):
        raise InputError(where, "says no times", "a time column, an interval in its header, or --interval 10us")
    names, cells = list(shape.names), (data, begin, shape.separator, decimal, len(shape.names))
    if not shape.has_time:
        return _without_times(names, cells, shape.step_ns, where, progress, taken, release)
    title = names.pop(0)
    unit = TIME_NS[taken.time_unit] if taken.time_unit else _unit(title, TIME_NS, 1e9)
    # Of times at a fixed interval the first and the last say all; the others would need more room than the samples.
    evenly = read_evenly(*cells, REGULAR, progress, release)
    if evenly is not None:
        even, others = evenly
        return _evenly(names, list(others), Even(even.first * unit, even.last * unit, even.count), taken, ())
    first, others = read_cells(*cells, progress, release=release)
    first *= unit
    columns = [others[n] for n in range(len(others))]
    used = [n for n, column in enumerate(columns) if not np.isnan(column).all()]
    names, columns = [names[n] for n in used], [columns[n] for n in used]
    times, columns, notes, breaks = _readable(first, columns)
    if not columns or len(times) < 2:
        raise InputError(where, "has fewer than two samples", "a waveform")
    holes = _holes(times)
    notes += [f"nothing was sampled from {a / 1e9:.9g} s to {b / 1e9:.9g} s" for a, b in holes[:MOST_NOTED]]
    holes = tuple(sorted({*holes, *breaks}))
    found = []
    for number, (name, values) in enumerate(zip(names, columns, strict=True), 1):
        called = _called(name, number)
        wave = _wave(times, values, _volts_of(name, called, taken), holes)
        found.append(Channel(called, number, wave, (), tuple(notes)))
    return found


Cells = tuple[Bytes, int, str, str, int]
"""What `read_cells` is given: a text, where it begins, separator, decimal sign, columns."""


def _without_times(
    names: list[str],
    cells: Cells,
    step_ns: float,
    where: str,
    progress: Progress,
    taken: Taken,
    release: Release,
) -> list[Channel]:
    """The channels of a text without times: what cannot be read is as it was before, or all behind it would move."""
    first, others = read_cells(*cells, progress, np.float32, release)
    columns = [first, *others]
    used = [n for n, column in enumerate(columns) if not np.isnan(column).all()]
    names, columns = [names[n] for n in used], [columns[n] for n in used]
    if not columns or len(columns[0]) < 2:
        raise InputError(where, "has fewer than two samples", "a waveform")
    missing = np.logical_or.reduce([np.isnan(column) for column in columns])
    notes = []
    if unread := int(missing.sum()):
        notes.append(f"{unread} rows hold something else than numbers: taken as the sample before")
        for column in columns:
            last = np.maximum.accumulate(np.where(np.isnan(column), 0, np.arange(len(column))))
            column[:] = np.nan_to_num(column[last])
    count = len(columns[0])
    return _evenly(names, columns, Even(0.0, (count - 1) * step_ns, count), taken, tuple(notes))


def _evenly(names: list[str], columns: list[Any], times: Even, taken: Taken, notes: tuple[str, ...]) -> list[Channel]:
    """Channels that were sampled at a fixed interval; ``times`` in ns."""
    found = []
    start, step = round(times.first), times.step
    for number, (name, values) in enumerate(zip(names, columns, strict=True), 1):
        called = _called(name, number)
        wave: Logic | Analog
        if _is_logic(values):
            turned = np.flatnonzero(np.diff(values)) + 1
            edges: Times = np.rint(times.first + turned * step).astype(np.int64)
            wave = Logic(start, round(times.last), int(values[0]), edges)
        else:
            wave = Analog(start, step, values, _volts_of(name, called, taken))
        found.append(Channel(called, number, wave, (), notes))
    return found


def _is_logic(values: Any) -> bool:
    """Whether there is nothing but 0 and 1; most others are told by their begin."""
    return all(bool(((part == 0) | (part == 1)).all()) for part in (values[:1_000], values))


def _volts_of(title: str, called: str, taken: Taken) -> float:
    """How many volts one of a channel's numbers is: as was said, else as its title says."""
    said = taken.volts_in(called)
    return _unit(title, VOLTS, 1.0) if said is None else said


def _readable(times: Any, columns: list[Any]) -> tuple[Any, list[Any], list[str], tuple[tuple[int, int], ...]]:
    """Without rows that cannot be read or have no later time; what is to be said of them; where time stepped back."""
    missing = np.logical_or.reduce([np.isnan(column) for column in columns]) if columns else np.zeros(0, np.bool_)
    notes = []
    if unread := int(missing.sum()):
        notes.append(f"{unread} rows hold something else than numbers: passed over")
        times, columns = times[~missing], [column[~missing] for column in columns]
    good, is_behind = np.empty(len(times), np.bool_), np.zeros(len(times), np.bool_)
    breaks: tuple[tuple[int, int], ...] = ()
    if late := _climbing(times, good, is_behind):
        notes.append(f"{late} samples without a later time were passed over")
        times, columns, is_behind = times[good], [column[good] for column in columns], is_behind[good]
        places = np.flatnonzero(is_behind)
        notes += [f"time steps back at {times[n - 1] / 1e9:.9g} s" for n in places[:MOST_NOTED].tolist()]
        # What lies on both sides need not have followed each other: nothing is known in between.
        spans = [(round(float(times[n - 1])), round(float(times[n]))) for n in places[:MOST_HOLES].tolist()]
        breaks = tuple(spans)
    return times, columns, notes, breaks


@njit(cache=True, nogil=True)
def _climbing(times: Any, good: Any, is_behind: Any) -> Any:
    """Which times are later than all before, and before which of these time had stepped back; how many are not later.

    One time twice is how rounded times look, no step back.
    """
    latest = -np.inf
    bad = 0
    stepped = False
    for n in range(len(times)):
        good[n] = latest < times[n] < np.inf
        if good[n]:
            latest = times[n]
            is_behind[n] = stepped
            stepped = False
        else:
            stepped = stepped or times[n] < latest
            bad += 1
    return bad


A_HOLE, MOST_HOLES, MOST_NOTED = 8.0, 1_000, 5
"""A step of so many usual ones is a hole in the samples; where there are more than so many it is how a file is written,
which holds a row where something changes; and so many are told one by one."""


def _holes(times: Any) -> tuple[tuple[int, int], ...]:
    """Spans in which nothing was sampled, in ns: regular samples that leave off for a while."""
    steps = np.diff(times)
    if len(steps) < 2:
        return ()
    usual = float(np.median(steps))
    places = np.flatnonzero(steps > A_HOLE * usual)
    is_regular = float((np.abs(steps - usual) < REGULAR * usual + 1).mean()) > 0.99
    if not is_regular or len(places) > MOST_HOLES:
        return ()
    return tuple((round(float(times[at])), round(float(times[at + 1]))) for at in places.tolist())


def _behind_lines(data: Bytes, lines: int) -> int:
    """Where the line begins that follows on so many."""
    ends = np.flatnonzero(data[: 1 << 20] == NEWLINE)
    if lines:
        return int(ends[lines - 1]) + 1
    return 3 if data[:3].tobytes() == codecs.BOM_UTF8 else 0


def _unit(name: str, known: dict[str, float], usual: float) -> float:
    return known.get(_unit_word(name, known).lower(), usual)


def _unit_word(title: str, known: dict[str, float]) -> str:
    """The unit that a title says, if it is one of those; else nothing."""
    if title.strip().lower() in known:
        # A title that is nothing but a unit.
        return title.strip()
    found = _UNIT.search(title)
    word = (found[1] or found[2] or "") if found else ""
    return word if word.lower() in known else ""


def channel_names(shape: Shape) -> list[str | None]:
    """What the channels in a text's columns are called; None stands for the column of times."""
    names: list[str | None] = [None] if shape.has_time else []
    titles = shape.names[len(names) :]
    return names + [_called(title, number) for number, title in enumerate(titles, 1)]


def _called(title: str, number: int) -> str:
    """A channel's name: its title without the unit."""
    return _UNIT.sub("", title).strip() or f"CH{number}"


def unit_of(shape: Shape, column: int, taken: Taken) -> str:
    """The unit that a column's numbers are taken in: as was said, else as its title says, else s or V."""
    name = channel_names(shape)[column]
    if name is None:
        return taken.time_unit or _unit_word(shape.names[column], TIME_NS) or "s"
    said = taken.volt_units.get(name, taken.volt_units.get(EVERY, ""))
    return said or _unit_word(shape.names[column], VOLTS) or "V"


def _wave(times: Any, values: Any, unit: float, holes: tuple[tuple[int, int], ...]) -> Logic | Analog:
    """Levels where there is nothing but 0 and 1; else samples, laid onto a fixed interval."""
    start, end = round(float(times[0])), round(float(times[-1]))
    if _is_logic(values):
        turned = np.flatnonzero(np.diff(values)) + 1
        edges: Times = np.rint(times[turned]).astype(np.int64)
        # A level that is another one behind a hole changed nobody knows when.
        return Logic(start, end, int(values[0]), edges, holes)
    volts = values if unit == 1.0 else values * np.float32(unit)
    step = float((times[-1] - times[0]) / (len(times) - 1))
    least, most = steps_of(times)
    if max(step - least, most - step) > REGULAR * step:
        # Unevenly sampled: drawn through, at the finest usual interval.
        step = float(np.median(np.diff(times)) if holes else np.percentile(np.diff(times), 10))
        count = min(int((times[-1] - times[0]) / step) + 1, 1 << 28)
        even = times[0] + np.arange(count) * step
        return Analog(start, step, np.interp(even, times, volts).astype(np.float32), unknown=holes)
    return Analog(start, step, volts)
