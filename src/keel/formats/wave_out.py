"""A part of some channels written as files that other programs read: delimited text, or a value change dump.

Source: IEEE 1364-2005, 18 (value change dump files).
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.model.frames import Times
from keel.model.safe_text import plain
from keel.model.span import Span
from keel.model.waveform import Analog, Channel, Logic

ROWS_AT_ONCE = 20_000
FIRST_CODE, CODES = 33, 94
"""Identifier codes are made of the printing characters of ASCII, of which `CODES` begin at ``!``."""


def write_text(path: Path, channels: Sequence[Channel], span: Span) -> None:
    """Write volts and levels as text: seconds from the file's zero, then a column for each channel.

    A row stands wherever a channel was sampled or changes; where a channel's level is not known its cell is empty.

    Raises:
        InputError: nothing was recorded in the span.
    """
    times = _times(channels, span)
    titles = ["time (s)", *(_title(one) for one in channels)]
    with path.open("w", encoding="utf-8", newline="") as file:
        file.write(",".join(titles) + "\n")
        for first in range(0, len(times), ROWS_AT_ONCE):
            part = times[first : first + ROWS_AT_ONCE]
            columns = [[f"{time / 1e9:.9f}" for time in part.tolist()]]
            columns += [_cells(one, part) for one in channels]
            file.writelines(",".join(cells) + "\n" for cells in zip(*columns, strict=True))


def _title(channel: Channel) -> str:
    name = plain(channel.name).replace('"', "'")
    unit = " (V)" if isinstance(channel.wave, Analog) else ""
    return f'"{name}{unit}"' if "," in name else f"{name}{unit}"


def _times(channels: Sequence[Channel], span: Span) -> Times:
    """When any channel was sampled or changes, both ends of what was recorded included."""
    found = []
    for one in channels:
        wave = one.wave
        begin, end = max(span.start, wave.start), min(span.end, wave.end)
        if end <= begin:
            continue
        if isinstance(wave, Analog):
            low, high = _places(wave, begin, end)
            found.append(np.rint(wave.start + np.arange(low, high) * wave.step).astype(np.int64))
        else:
            edges = wave.edges[(wave.edges > begin) & (wave.edges < end)]
            found += [np.array([begin, end], np.int64), edges]
    if not found:
        raise InputError("the cut", "holds nothing that was recorded", "a span in which channels were recorded")
    times: Times = np.unique(np.concatenate(found))
    return times


def _places(wave: Analog, begin: int, end: int) -> tuple[int, int]:
    """The samples from one moment up to another: the first, and that behind the last."""
    low = max(int(np.ceil((begin - wave.start) / wave.step)), 0)
    return low, min(int((end - wave.start) / wave.step) + 1, len(wave))


def _cells(channel: Channel, times: Times) -> list[str]:
    wave = channel.wave
    known = np.ones(len(times), np.bool_)
    for low, high in wave.unknown:
        known &= (times <= low) | (times >= high)
    known &= (times >= wave.start) & (times <= wave.end)
    if isinstance(wave, Logic):
        levels = wave.first ^ (wave.edges.searchsorted(times, side="right") & 1)
        values: list[Any] = levels.tolist()
    else:
        places = np.clip(np.rint((times - wave.start) / wave.step).astype(np.int64), 0, max(len(wave) - 1, 0))
        volts = np.asarray(wave.samples)[places] * wave.scale
        values = [f"{value:.6g}" for value in volts.tolist()]
    return [str(value) if is_known else "" for value, is_known in zip(values, known.tolist(), strict=True)]


def write_vcd(path: Path, lines: Sequence[tuple[str, Logic]], span: Span) -> None:
    """Write levels as a value change dump in nanoseconds from the begin of the span; unknown stretches are ``x``.

    Args:
        path: The file.
        lines: Names and levels.
        span: What is written of them.

    Raises:
        InputError: there is no channel with levels.
    """
    if not lines:
        raise InputError("the cut", "has no channel with levels", "a line that was read, or a channel of levels")
    codes = [_code(number) for number in range(len(lines))]
    changes = [change for code, (_, logic) in zip(codes, lines, strict=True) for change in _changes(code, logic, span)]
    changes.sort()
    with path.open("w", encoding="utf-8", newline="") as file:
        file.write("$timescale 1 ns $end\n$scope module cut $end\n")
        for code, (name, _) in zip(codes, lines, strict=True):
            file.write(f"$var wire 1 {code} {_reference(name)} $end\n")
        file.write("$upscope $end\n$enddefinitions $end\n")
        now = -1
        for time, code, value in changes:
            if time != now:
                file.write(f"#{time}\n")
                now = time
            file.write(f"{value}{code}\n")
        if now < span.end - span.start:
            file.write(f"#{span.end - span.start}\n")


def _code(number: int) -> str:
    """The identifier code of a channel."""
    digits = chr(FIRST_CODE + number % CODES)
    return digits if number < CODES else _code(number // CODES - 1) + digits


def _reference(name: str) -> str:
    """A name as a dump may have it: without blanks."""
    return "_".join(plain(name).split()) or "channel"


def _changes(code: str, logic: Logic, span: Span) -> Iterator[tuple[int, str, str]]:
    """What a channel says from the begin of a span on, by the time from there."""
    begin = max(logic.start, span.start)
    if begin > span.start or logic.end <= span.start:
        yield 0, code, "x"
    for part in logic.stretches():
        low, high = max(part.start, span.start), min(part.end, span.end)
        if high <= low:
            continue
        yield low - span.start, code, str(part.level_at(low))
        inside = part.edges[(part.edges > low) & (part.edges < high)]
        levels = part.first ^ (part.edges.searchsorted(inside, side="right") & 1)
        for time, level in zip(inside.tolist(), levels.tolist(), strict=True):
            yield time - span.start, code, str(level)
        if part.end < span.end and part.end < logic.end:
            yield part.end - span.start, code, "x"
