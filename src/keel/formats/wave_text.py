"""Waveforms as delimited text, as instruments export them: a time column or a fixed interval, channels beside it.

Lines before the numbers are headers: the last one with as many cells names the columns, and units are taken from names
(``CH1 (mV)``, ``time [us]``). Where there is no time column, a header says the interval or the rate. A channel of
nothing but 0 and 1 is logic. A decimal comma is told by semicolons or tabs between the cells.
"""

from __future__ import annotations

import io
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.model.frames import Times
from keel.model.waveform import Analog, Channel, Logic

HEAD_LINES = 200
TIME_NS = {"s": 1e9, "sec": 1e9, "ms": 1e6, "us": 1e3, "µs": 1e3, "μs": 1e3, "ns": 1.0}
VOLTS = {"v": 1.0, "volt": 1.0, "volts": 1.0, "mv": 1e-3, "uv": 1e-6, "µv": 1e-6, "kv": 1e3}
_TIME = re.compile(r"^(t|time|zeit|timestamp|x|sec(onds?)?|s|ms|us|µs|ns)\b", re.I)
_UNIT = re.compile(r"[\[(]\s*([^\])]+?)\s*[\])]|[,_ ]\s*(s|ms|us|µs|ns|v|mv|uv)\s*$", re.I)
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


def shape_of(head: bytes, where: str = "the file") -> Shape:
    """How a text lies, by its first lines.

    Raises:
        InputError: it holds no numbers in columns.
    """
    lines = head.decode("utf-8-sig", "replace").splitlines()[:HEAD_LINES]
    best: tuple[int, str, bool] | None = None
    for separator, comma in ((";", False), (";", True), ("\t", False), ("\t", True), (",", False), (" ", False)):
        at = next((n for n, line in enumerate(lines) if _numbers(line, separator, comma)), None)
        if at is not None and all(_numbers(line, separator, comma) for line in lines[at : at + 5] if line.strip()):
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
    climbs = len(firsts) > 2 and all(b > a for a, b in zip(firsts, firsts[1:], strict=False))
    step = _step("\n".join(lines[:at]))
    has_time = count > 1 and climbs and (step == 0.0 or bool(full and _TIME.match(full[0])))
    if not full:
        full = ("time", *(f"CH{n}" for n in range(1, count))) if has_time else tuple(f"CH{n + 1}" for n in range(count))
    return Shape(at, separator, comma, full, has_time, 0.0 if has_time else step)


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


def read_wave_text(path: Path) -> list[Channel]:
    """The channels of a text.

    Raises:
        InputError: it cannot be read, or holds no waveform.
    """
    try:
        data = path.read_bytes()
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a waveform as text") from None
    return parse_wave_text(data, str(path))


def parse_wave_text(data: bytes, where: str = "the file") -> list[Channel]:
    """The channels of a text's bytes.

    Raises:
        InputError: it holds no waveform.
    """
    shape = shape_of(data[: 1 << 16], where)
    columns = _columns(data, shape, where)
    if len(columns[0]) < 2:
        raise InputError(where, "has fewer than two samples", "a waveform")
    names = list(shape.names)
    notes: list[str] = []
    if shape.has_time:
        times = columns[0] * _unit(names[0], TIME_NS, 1e9)
        columns, names = columns[1:], names[1:]
    elif shape.step_ns:
        times = np.arange(len(columns[0])) * shape.step_ns
    else:
        raise InputError(where, "says no times", "a time column, or an interval in its header")
    good = np.isfinite(times) & np.concatenate([[True], np.diff(times) > 0])
    if not good.all():
        notes.append(f"{int((~good).sum())} samples without a later time were passed over")
        times, columns = times[good], [column[good] for column in columns]
    found = []
    for number, (name, values) in enumerate(zip(names, columns, strict=False), 1):
        called = _UNIT.sub("", name).strip() or f"CH{number}"
        found.append(Channel(called, number, _wave(times, values * _unit(name, VOLTS, 1.0), values), (), tuple(notes)))
    return found


def _columns(data: bytes, shape: Shape, where: str) -> list[Any]:
    import pyarrow as pa
    from pyarrow import csv

    if shape.separator == " ":
        text = re.sub(rb"[ \t]+", b" ", data)
    else:
        text = data
    names = [f"c{n}" for n in range(len(shape.names))]
    convert = csv.ConvertOptions(
        column_types=dict.fromkeys(names, pa.float64()),
        decimal_point="," if shape.comma else ".",
        strings_can_be_null=True,
    )
    parse = csv.ParseOptions(delimiter=shape.separator, ignore_empty_lines=True, invalid_row_handler=lambda _: "skip")
    read = csv.ReadOptions(column_names=names, skip_rows=shape.skip)
    try:
        table = csv.read_csv(io.BytesIO(text), read_options=read, parse_options=parse, convert_options=convert)
    except (pa.ArrowInvalid, pa.ArrowKeyError) as error:
        raise InputError(where, f"cannot be read ({str(error)[:200]})", "numbers in columns") from None
    return [column.to_numpy(zero_copy_only=False) for column in table.columns]


def _unit(name: str, known: dict[str, float], usual: float) -> float:
    found = _UNIT.search(name)
    word = (found[1] or found[2] or "").lower() if found else ""
    return known.get(word, usual)


def _wave(times: Any, volts: Any, plain: Any) -> Logic | Analog:
    """Levels where there is nothing but 0 and 1; else samples, laid onto a fixed interval."""
    kinds = np.unique(plain[:100_000])
    if set(kinds.tolist()) <= {0.0, 1.0} and set(np.unique(plain).tolist()) <= {0.0, 1.0}:
        turned = np.flatnonzero(np.diff(plain)) + 1
        edges: Times = np.rint(times[turned]).astype(np.int64)
        return Logic(round(float(times[0])), round(float(times[-1])), int(plain[0]), edges)
    steps = np.diff(times)
    step = float((times[-1] - times[0]) / (len(times) - 1))
    if np.abs(steps / step - 1).max() > REGULAR:
        # Unevenly sampled: drawn through, at the finest usual interval.
        step = float(np.percentile(steps, 10))
        count = min(int((times[-1] - times[0]) / step) + 1, 1 << 28)
        even = times[0] + np.arange(count) * step
        return Analog(round(float(times[0])), step, np.interp(even, times, volts).astype(np.float32))
    return Analog(round(float(times[0])), step, volts.astype(np.float32))
