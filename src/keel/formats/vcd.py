"""Value change dumps: digital waveforms as simulators and logic probes write them.

Channels are one-bit nets and registers; what else is declared (vectors, reals, events, parameters) is none, but one bit
of a vector may be taken by hand, as ``name[3]``. ``0`` and ``L`` are low, ``1`` and ``H`` high; every other letter is
unknown.

Source: IEEE 1364-2005, 18.2 (four state VCD).
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.formats.vcd_changes import Progress, changes_in, edges_of
from keel.model.frames import Bytes
from keel.model.waveform import Analog, Channel, Logic

UNITS_FS = {"s": 10**15, "ms": 10**12, "us": 10**9, "ns": 10**6, "ps": 10**3, "fs": 1}
CHANNELS = frozenset(
    (
        "reg",
        "wire",
        "tri",
        "tri0",
        "tri1",
        "triand",
        "trior",
        "trireg",
        "wand",
        "wor",
        "supply0",
        "supply1",
        "logic",
        "bit",
    )
)
"""Kinds of variables that are channels where they have one bit."""
HEAD_BYTES = 1 << 20


@dataclass
class Variable:
    """A variable of the dump: its scope and name, kind, bits, code."""

    scope: tuple[str, ...]
    name: str
    kind: str
    bits: int
    code: str
    high: int = 0
    low: int = 0


@dataclass
class Dump:
    """What a dump says.

    Attributes:
        channels: Its channels, in the order of their declarations.
        vectors: Declared vectors, whose bits can be taken by hand.
        notes: What was passed over.
    """

    channels: list[Channel] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def recognises(head: bytes) -> str | None:
    """Why it is a dump, if it is one."""
    text = head.lstrip()
    known = (b"$date", b"$version", b"$timescale", b"$comment", b"$scope", b"$var")
    return "begins with a declaration of a value change dump" if text.startswith(known) else None


def read_vcd(path: Path, progress: Progress = lambda *_: None, bits_of: tuple[str, ...] = ()) -> Dump:
    """Read a dump.

    Args:
        path: The file.
        progress: Called with bytes done and in all.
        bits_of: Bits of vectors that are taken besides, as ``name[3]``.

    Raises:
        InputError: it cannot be read, or declares nothing that could be a channel.
    """
    try:
        buffer = np.memmap(path, np.uint8, "r") if path.stat().st_size else np.zeros(0, np.uint8)
    except OSError as error:
        raise InputError(str(path), f"cannot be read ({error.strerror})", "a value change dump") from None
    return parse_vcd(buffer, str(path), progress, bits_of)


def parse_vcd(
    buffer: Bytes, where: str = "the dump", progress: Progress = lambda *_: None, bits_of: tuple[str, ...] = ()
) -> Dump:
    """Read a dump from its bytes.

    Raises:
        InputError: it declares nothing that could be a channel, or no time unit.
    """
    variables, timescale, body = _declarations(buffer, where)
    wanted = _wanted(variables, bits_of)
    if not wanted:
        raise InputError(where, "declares no channel of one bit", "a net or register of one bit")
    codes = {code: place for place, code in enumerate(dict.fromkeys(one.code for one, _ in wanted))}
    dump = Dump()
    with_vectors = any(bit >= 0 for _, bit in wanted)
    tracks = changes_in(buffer[body:], codes, progress, len(buffer), with_vectors)
    dump.notes += tracks.notes
    names = _names([one for one, _ in wanted])
    known: dict[str, list[int]] = {}
    by_code: dict[tuple[str, int], list[int]] = {}
    for number, (one, bit) in enumerate(wanted):
        by_code.setdefault((one.code, bit), []).append(number)
    for (code, bit), numbers in by_code.items():
        first = numbers[0]
        name = names[first]
        logic = _logic(*tracks.of(codes[code], bit), timescale, tracks.end)
        others = tuple(dict.fromkeys(names[n] for n in numbers[1:] if names[n] != name))
        # Variables of one reference name that never differ are one channel.
        alike = known.setdefault(wanted[first][0].name, [])
        same = next((n for n in alike if _are_equal(dump.channels[n].wave, logic)), None) if bit < 0 else None
        if same is not None:
            kept = dump.channels[same]
            dump.channels[same] = replace(kept, others=(*kept.others, name, *others))
        else:
            alike.append(len(dump.channels))
            dump.channels.append(Channel(name, len(dump.channels) + 1, logic, others))
    return dump


_TOKEN = re.compile(rb"\S+")


def _declarations(buffer: Bytes, where: str) -> tuple[list[Variable], int, int]:
    """Variables, femtoseconds of a time unit, and where the values begin."""
    size = HEAD_BYTES
    while True:
        head = buffer[:size].tobytes()
        at = head.find(b"$enddefinitions")
        if at >= 0 or size >= len(buffer):
            break
        size *= 4
    variables: list[Variable] = []
    scopes: list[str] = []
    timescale = 10**6
    tokens = _TOKEN.finditer(head)
    for token in tokens:
        word = token[0]
        if not word.startswith(b"$"):
            # Without an end of the declarations the values begin at the first time.
            if word.startswith(b"#"):
                return variables, timescale, token.start()
            continue
        parts: list[str] = []
        end = token.end()
        for inner in tokens:
            end = inner.end()
            if inner[0] == b"$end":
                break
            parts.append(inner[0].decode("utf-8", "replace"))
        if word == b"$enddefinitions":
            return variables, timescale, end
        if word == b"$scope" and len(parts) >= 2:
            scopes.append(parts[1])
        elif word == b"$upscope" and scopes:
            scopes.pop()
        elif word == b"$timescale":
            timescale = _timescale("".join(parts), where)
        elif word == b"$var" and len(parts) >= 4:
            variables.append(_variable(tuple(scopes), parts))
    raise InputError(where, "its declarations have no end", "$enddefinitions")


def _variable(scope: tuple[str, ...], parts: list[str]) -> Variable:
    bits = int(parts[1]) if parts[1].isdecimal() else 0
    name = "".join(parts[3:])
    found = re.fullmatch(r"(\S+?)\[(-?\d+)(?::(-?\d+))?\]", name)
    high = low = 0
    if found and found[3] is not None:
        name, high, low = found[1], int(found[2]), int(found[3])
    elif found and bits == 1:
        # A selected bit of a vector, written as a variable of its own: its index is part of its name.
        name = f"{found[1]}[{found[2]}]"
    elif bits > 1:
        high = bits - 1
    return Variable(scope, name, parts[0].lower(), bits, parts[2], high, low)


def _timescale(text: str, where: str) -> int:
    found = re.fullmatch(r"(\d+)(s|ms|us|ns|ps|fs)", text)
    if found is None or int(found[1]) == 0:
        raise InputError(
            where, f"“{text[:40]}” is no time unit", "$timescale with 1, 10 or 100 s, ms, us, ns, ps or fs"
        )
    return int(found[1]) * UNITS_FS[found[2]]


def _wanted(variables: list[Variable], bits_of: tuple[str, ...]) -> list[tuple[Variable, int]]:
    """The variables that are channels, and bits of vectors taken by hand (-1: of one bit)."""
    found = [(one, -1) for one in variables if one.kind in CHANNELS and one.bits == 1]
    for text in bits_of:
        match = re.fullmatch(r"(.+)\[(-?\d+)\]", text)
        for one in variables if match else ():
            assert match is not None
            full = ".".join((*one.scope, one.name))
            index = int(match[2])
            if (
                one.bits > 1
                and match[1] in (one.name, full)
                and min(one.high, one.low) <= index <= max(one.high, one.low)
            ):
                place = abs(index - one.low)
                taken = Variable(one.scope, f"{one.name}[{index}]", one.kind, 1, one.code)
                found.append((taken, place))
    return found


def _names(variables: list[Variable]) -> list[str]:
    """What channels are called: the reference name, with scopes where two share it."""
    shared: dict[str, set[tuple[tuple[str, ...], str]]] = {}
    for one in variables:
        shared.setdefault(one.name, set()).add((one.scope, one.code))
    names = []
    for one in variables:
        alone = len({code for _, code in shared[one.name]}) == 1
        names.append(one.name if alone else ".".join((*one.scope, one.name)))
    return names


def _logic(times: Any, levels: Any, timescale: int, end: int) -> Logic:
    """Changes as a waveform: repeated values make no edge, unknown ones neither."""
    last = int(_ns(np.array([end]), timescale)[0])
    times = _ns(times, timescale)
    begin, final = (int(times[0]), int(times[-1])) if len(times) else (last, last)
    last = max(last, final)
    spans = np.empty((len(times), 2), np.int64)
    n, m, first = edges_of(times, levels, spans)
    unknown = [(low, high if high >= 0 else last) for low, high in spans[:m].tolist()]
    # Before its first value nothing is known.
    unknown = [(low, high) for low, high in ((0, begin), *unknown) if high > low]
    return Logic(0, last, max(int(first), 0), times[:n], _joined(unknown))


def _are_equal(one: Logic | Analog, two: Logic) -> bool:
    return (
        isinstance(one, Logic)
        and (one.first, one.unknown) == (two.first, two.unknown)
        and np.array_equal(one.edges, two.edges)
    )


def _joined(spans: list[tuple[int, int]]) -> tuple[tuple[int, int], ...]:
    joined: list[tuple[int, int]] = []
    for low, high in sorted(spans):
        if joined and low <= joined[-1][1]:
            joined[-1] = joined[-1][0], max(high, joined[-1][1])
        else:
            joined.append((low, high))
    return tuple(joined)


def _ns(ticks: Any, femtoseconds: int) -> Any:
    """Ticks in whole nanoseconds, rounded."""
    if femtoseconds % UNITS_FS["ns"] == 0:
        factor = femtoseconds // UNITS_FS["ns"]
        return ticks * factor if factor > 1 else ticks
    per = UNITS_FS["ns"] // femtoseconds if UNITS_FS["ns"] % femtoseconds == 0 else 0
    if per:
        return (ticks + per // 2) // per
    return np.rint(ticks.astype(np.float64) * femtoseconds / UNITS_FS["ns"]).astype(np.int64)
