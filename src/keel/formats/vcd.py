"""Value change dumps: digital waveforms as simulators and logic probes write them.

Channels are one-bit nets and registers; what else is declared (vectors, reals, events, parameters) is none, but one bit
of a vector may be taken by hand, as ``name[3]``. ``0`` and ``L`` are low, ``1`` and ``H`` high; every other letter is
unknown.

Source: IEEE 1364-2005, 18.2 (four state VCD).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.model.frames import Bytes
from keel.model.waveform import Channel, Logic

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
LOW, HIGH, UNKNOWN = 0, 1, 2
PIECE = 1 << 24

Progress = Callable[[int, int], None]


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
        buffer = np.fromfile(path, np.uint8)
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
    tracks = _changes(buffer[body:], codes, progress, len(buffer))
    dump.notes += tracks.notes
    names = _names([one for one, _ in wanted])
    by_code: dict[tuple[str, int], list[int]] = {}
    for number, (one, bit) in enumerate(wanted):
        by_code.setdefault((one.code, bit), []).append(number)
    shown: dict[tuple[Any, ...], int] = {}
    for (code, bit), numbers in by_code.items():
        first = numbers[0]
        times, levels = tracks.of(codes[code], bit)
        logic = _logic(times, levels, timescale, tracks.end)
        reference = wanted[first][0].name
        same = (reference, times.tobytes(), levels.tobytes())
        others = tuple(dict.fromkeys(names[n] for n in numbers[1:] if names[n] != names[first]))
        if same in shown and bit < 0:
            # Variables of one reference name that never differ are one channel.
            known = dump.channels[shown[same]]
            dump.channels[shown[same]] = Channel(
                known.name, known.number, known.wave, (*known.others, names[first], *others)
            )
            continue
        shown[same] = len(dump.channels)
        dump.channels.append(Channel(names[first], len(dump.channels) + 1, logic, others))
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


@dataclass
class _Tracks:
    """Changes of all variables: time, which, level; and the end."""

    times: Any
    which: Any
    levels: Any
    vectors: dict[int, list[tuple[int, str]]]
    end: int
    notes: list[str]

    def of(self, place: int, bit: int) -> tuple[Any, Any]:
        """Times and levels of one variable; of a vector, one of its bits."""
        if bit >= 0:
            changes = self.vectors.get(place, [])
            times = np.array([time for time, _ in changes], np.int64)
            levels = [
                _BITS.get((text if len(text) > bit else _extended(text, bit))[-1 - bit], UNKNOWN) for _, text in changes
            ]
            return times, np.array(levels, np.uint8)
        rows = self.which == place
        return self.times[rows], self.levels[rows]


_BITS = {"0": LOW, "1": HIGH, "l": LOW, "L": LOW, "h": HIGH, "H": HIGH}


def _extended(text: str, bit: int) -> str:
    """A vector's value with the digits that are left out. Source: 18.2.1."""
    first = text[0] if text and text[0] in "xXzZ" else "0"
    return text.rjust(bit + 1, first)


@njit(cache=True, nogil=True)
def _level(byte: Any) -> Any:
    if byte == 48 or byte == 76 or byte == 108:
        return 0
    if byte == 49 or byte == 72 or byte == 104:
        return 1
    return 2


@njit(cache=True, nogil=True)
def _scan(data: Any, at: Any, stop: Any, now: Any, table: Any, out: Any, words: Any) -> Any:
    """Go through the values up to ``stop``.

    Args:
        data: The dump behind its declarations.
        at: Where to begin; a token begins there.
        stop: Where to end, before a token that is not whole.
        now: The time so far.
        table: Which variable has a code, by its hash; -1 for none.
        out: Times, variables, levels.
        words: Where words begin that are looked at elsewhere: values of vectors, keywords.

    Returns:
        How many changes, how many words, where it ended, the time, whether a time ran back.
    """
    times, which, levels = out
    n = rest = back = 0
    while at < stop:
        byte = data[at]
        if byte <= 32:
            at += 1
            continue
        end = at + 1
        while end < len(data) and data[end] > 32:
            end += 1
        if end > stop:
            break
        if byte == 35:
            value = np.int64(0)
            for k in range(at + 1, end):
                digit = np.int64(data[k]) - 48
                if digit < 0 or digit > 9:
                    break
                value = value * 10 + digit
            if value < now:
                back += 1
            else:
                now = value
        elif byte == 36 and end - at == 8 and data[at + 1] == 99:
            # A comment: everything up to its end.
            while end < len(data) and not (
                data[end] == 36 and end + 3 < len(data) and data[end + 1] == 101 and data[end + 2] == 110
            ):
                end += 1
            end = min(end + 4, len(data))
        elif byte == 36 or byte == 98 or byte == 66 or byte == 114 or byte == 82:
            words[rest, 0], words[rest, 1], words[rest, 2] = at, n, now
            rest += 1
            if byte != 36:
                # The code follows, as a word of its own.
                while end < len(data) and data[end] <= 32:
                    end += 1
                while end < len(data) and data[end] > 32:
                    end += 1
                if end > stop:
                    rest -= 1
                    break
        else:
            key = np.int64(0)
            for k in range(at + 1, end):
                key = key * 95 + (np.int64(data[k]) - 32)
            place = np.int64(-1)
            slot = key % len(table)
            while table[slot, 1] >= 0:
                if table[slot, 0] == key:
                    place = table[slot, 1]
                    break
                slot = (slot + 1) % len(table)
            if place >= 0:
                times[n], which[n], levels[n] = now, place, _level(byte)
                n += 1
        at = end
    return n, rest, at, now, back


def _table(codes: dict[str, int]) -> Any:
    """Codes by what `_scan` makes of them."""
    size = 1
    while size < 4 * len(codes) + 4:
        size *= 2
    table = np.full((size, 2), -1, np.int64)
    for code, place in codes.items():
        key = 0
        for byte in code.encode("latin-1", "replace"):
            key = (key * 95 + (byte - 32)) & 0xFFFF_FFFF_FFFF_FFFF
        key -= 1 << 64 if key >> 63 else 0
        slot = key % size
        while table[slot, 1] >= 0:
            slot = (slot + 1) % size
        table[slot] = key, place
    return table


def _changes(data: Bytes, codes: dict[str, int], progress: Progress, total: int) -> _Tracks:
    """All changes of the variables that are wanted. What is dumped off is unknown."""
    table = _table(codes)
    parts: list[tuple[Any, Any, Any]] = []
    vectors: dict[int, list[tuple[int, str]]] = {}
    at, now, backs = 0, 0, 0
    notes: list[str] = []
    while at < len(data):
        stop = min(at + PIECE, len(data))
        room = (stop - at) // 2 + 2
        out = (np.empty(room, np.int64), np.empty(room, np.int32), np.empty(room, np.uint8))
        words = np.empty((room, 3), np.int64)
        n, rest, end, now, back = _scan(data, at, stop, now, table, out, words)
        backs += back
        if end == at:
            # A word longer than a piece: what is left is nothing.
            break
        _look_at_words(data, words[:rest], codes, vectors, parts, out, n)
        at = end
        progress(total - len(data) + at, total)
    if backs:
        notes.append(f"{backs} times lie before the time above them: they were passed over")
    none = np.zeros(0, np.int64)
    times, which, levels = (np.concatenate([part[k] for part in parts]) if parts else none for k in range(3))
    return _Tracks(times, which, levels, vectors, now, notes)


def _look_at_words(
    data: Bytes, words: Any, codes: dict[str, int], vectors: dict[int, list[tuple[int, str]]],
    parts: list[tuple[Any, Any, Any]], out: Any, n: int,
) -> None:  # fmt: skip
    """What keywords and values of vectors say; changes between them are kept in their order."""
    low = 0
    for at, count, now in words.tolist():
        text = data[at : at + 4096].tobytes()
        found = _TOKEN.findall(text, 0)
        if found[0][:1] in (b"b", b"B", b"r", b"R"):
            if len(found) > 1 and found[0][:1] in (b"b", b"B"):
                place = codes.get(found[1].decode("latin-1"))
                if place is not None:
                    vectors.setdefault(place, []).append((now, found[0][1:].decode("latin-1")))
        elif found[0] == b"$dumpoff":
            parts.append(tuple(column[low:count] for column in out))
            low = count
            every = np.arange(len(codes), dtype=np.int32)
            parts.append((np.full(len(codes), now, np.int64), every, np.full(len(codes), UNKNOWN, np.uint8)))
    parts.append(tuple(column[low:n] for column in out))


def _logic(times: Any, levels: Any, timescale: int, end: int) -> Logic:
    """Changes as a waveform: repeated values make no edge, unknown ones neither."""
    last = _ns(np.array([end]), timescale)[0]
    if not len(times):
        return Logic(0, int(last), 0, np.zeros(0, np.int64), ((0, int(last)),) if last else ())
    ns = _ns(times, timescale)
    # Of several values at one time the last one holds.
    final = np.append(ns[1:] != ns[:-1], True)
    ns, levels = ns[final], levels[final]
    fresh = np.concatenate([[True], levels[1:] != levels[:-1]])
    ns, levels = ns[fresh], levels[fresh]
    unknown: list[tuple[int, int]] = []
    if ns[0] > 0:
        unknown.append((0, int(ns[0])))
    for place in np.flatnonzero(levels == UNKNOWN).tolist():
        until = int(ns[place + 1]) if place + 1 < len(ns) else int(last)
        if until > int(ns[place]):
            unknown.append((int(ns[place]), until))
    known = levels != UNKNOWN
    ns, levels = ns[known], levels[known]
    if not len(ns):
        return Logic(0, int(last), 0, np.zeros(0, np.int64), tuple(unknown))
    first = int(levels[0])
    turned = np.flatnonzero(levels[1:] != levels[:-1]) + 1
    return Logic(0, max(int(last), int(ns[-1])), first, ns[turned].astype(np.int64), _joined(unknown))


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
        return ticks * (femtoseconds // UNITS_FS["ns"])
    per = UNITS_FS["ns"] // femtoseconds if UNITS_FS["ns"] % femtoseconds == 0 else 0
    if per:
        return (ticks + per // 2) // per
    return np.rint(ticks.astype(np.float64) * femtoseconds / UNITS_FS["ns"]).astype(np.int64)
