"""Delimited text with any column layout: see `keel.formats.layout` for how it is described and guessed."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from keel.errors import InputError
from keel.formats.cells import bus_of, bytes_of, is_yes, names_in, new_names, number_of, time_of
from keel.formats.layout import ROLES, Layout, guess, missing_in, remembered
from keel.formats.reader import Account, Format, Progress, read_with
from keel.lines.can import with_wire_bits
from keel.model.bus import MOST_BUSES
from keel.model.faults import FAULT_BY_WORD
from keel.model.frames import LENGTH_TO_DLC, Bytes, Flag, FrameBatch
from keel.model.identity import IDENT_MASK, Form
from keel.model.safe_text import uncsv

_IGNORE, _TIME, _ID, _PAYLOAD, _BYTE, _BUS, _LEN, _DLC = range(8)
_DIR, _EXT, _KIND, _FD, _BRS, _ESI, _FAULTS = range(8, len(ROLES))
REASONS = (
    "",
    "time is no number",
    "identifier is no number",
    "payload is not bytes",
    "too few columns",
    f"frames of more than {MOST_BUSES} buses",
    "payload longer than 16 MiB",
)
_CROWDED = 5
MAX_BYTES = 1 << 24
_UNIT_DIGITS = {"s": 9, "ms": 6, "us": 3, "ns": 0, "clock": 9, "date": 9}
_TX, _REMOTE, _ERROR = int(Flag.TX), int(Flag.REMOTE), int(Flag.ERROR)
_FD_FLAG, _BRS_FLAG, _ESI_FLAG = int(Flag.FD), int(Flag.BRS), int(Flag.ESI)
_EXTENDED, _BASE, _NO_ID = int(Form.EXTENDED), int(Form.BASE), int(Form.NONE)


@njit(cache=True, nogil=True)
def _parse(text: Any, sign: Any, roles: Any, unit: Any, hex_ids: bool, hex_payload: bool, lines: Any, names: Any,
           known: Any, out: Any, data: Any, words: Any, bad: Any) -> Any:  # fmt: skip
    """Parse whole lines; returns frames, payload bytes, and how many cells of fault words there are."""
    time, bus, form, ident, flags, dlc, length = out
    n = used = worded = at = 0
    needed = 0
    says_fd = False
    for c in range(len(roles)):
        if roles[c] == _TIME or roles[c] == _ID:
            needed = c + 1
        says_fd = says_fd or roles[c] == _FD
    while at < len(text):
        end = at
        while text[end] != 10:
            end += 1
        following = end + 1
        lines[0] += 1
        while end > at and (text[end - 1] == 13 or text[end - 1] == 32):
            end -= 1
        while sign == 32 and at < end and (text[at] == 32 or text[at] == 9):
            at += 1
        if at == end or text[at] == 35:
            at = following
            continue
        reason, column, took = 0, 0, 0
        code = kind = extended = -1
        digits = 0
        flag = 0
        time[n], bus[n], ident[n] = 0, 0, 0
        words_start = words_end = 0
        long = False
        while at <= end and reason == 0:
            stop = at
            quoted = at < end and text[at] == 34
            if quoted:
                at += 1
                stop = at
                # A quote within quotes is written twice.
                while stop < end and (text[stop] != 34 or (stop + 1 < end and text[stop + 1] == 34)):
                    stop += 1 if text[stop] != 34 else 2
                after = stop
                while after < end and text[after] != sign:
                    after += 1
            else:
                while stop < end and text[stop] != sign and not (sign == 32 and text[stop] == 9):
                    stop += 1
                after = stop
            low, high = at, stop
            while not quoted and low < high and text[low] == 32:
                low += 1
            while not quoted and high > low and text[high - 1] == 32:
                high -= 1
            role = roles[min(column, len(roles) - 1)]
            if column >= len(roles) and role != _BYTE:
                role = _IGNORE
            if role == _TIME:
                value, fine = time_of(text, low, high, unit)
                time[n] = value
                if not fine:
                    reason = 1
            elif role == _ID:
                number, digits, long = number_of(text, low, high, hex_ids)
                ident[n] = number
                if digits == 0 and high > low and text[low] != 45:
                    reason = 2
            elif role == _PAYLOAD:
                if (high - low + 1) // 2 + took > MAX_BYTES:
                    reason = 6
                else:
                    more = bytes_of(text, low, high, hex_payload, data, used + took)
                    if more < 0:
                        reason = 3
                    took += max(more, 0)
            elif role == _BYTE and high > low:
                number, count, _ = number_of(text, low, high, hex_payload)
                if count == 0 or number > 255:
                    reason = 3
                else:
                    data[used + took] = number
                    took += 1
            elif role == _BUS and (high > low or quoted):
                # The opening quote is kept as a sign that the others are doubled.
                which = bus_of(text, low - 1 if quoted else low, high, names, known)
                if which < 0:
                    reason = 5
                bus[n] = max(which, 0)
            elif role == _DLC and high > low:
                number, count, _ = number_of(text, low, high, False)
                code = np.int64(number) if count else -1
            elif role == _DIR and high > low and ((text[low] | 32) == 116 or (text[low] | 32) == 111):
                flag |= _TX
            elif role == _EXT:
                extended = 1 if is_yes(text, low, high) else 0
            elif role == _KIND and high > low:
                kind = text[low] | 32
            elif role == _FD and is_yes(text, low, high):
                flag |= _FD_FLAG
            elif role == _BRS and is_yes(text, low, high):
                flag |= _BRS_FLAG
            elif role == _ESI and is_yes(text, low, high):
                flag |= _ESI_FLAG
            elif role == _FAULTS and high > low:
                words_start, words_end = low, high
            column += 1
            at = after + 1
            while sign == 32 and at < end and (text[at] == 32 or text[at] == 9):
                at += 1
        if reason == 0 and column < needed:
            reason = 4
        if reason:
            if bad[reason, 0] == 0:
                bad[reason, 1] = lines[0]
            bad[reason, 0] += 1
        else:
            if digits == 0:
                form[n], ident[n] = _NO_ID, 0
            elif long or extended == 1 or (extended < 0 and (ident[n] > 0x7FF or (hex_ids and digits == 8))):
                form[n] = _EXTENDED
            else:
                form[n] = _BASE
            if kind == 114:
                flag |= _REMOTE
            elif kind == 101 or (digits == 0 and kind < 0):
                flag |= _ERROR
            if took > 8 and took <= 64 and not says_fd:
                flag |= _FD_FLAG
            flags[n] = flag
            dlc[n] = code if 0 <= code <= 15 else LENGTH_TO_DLC[min(took, 64)]
            length[n] = took
            if words_end and worded < len(words):
                words[worded, 0], words[worded, 1], words[worded, 2] = n, words_start, words_end
                worded += 1
            used += took
            n += 1
        at = following
    return n, used, worded


class DelimitedParser:
    """Reads a delimited text piece by piece."""

    def __init__(self, account: Account, layout: Layout) -> None:
        self._account, self._layout = account, layout
        self._names, self._known = new_names()
        self._lines, self._bad = np.zeros(1, np.int64), np.zeros((len(REASONS), 2), np.int64)
        self._skip = layout.skip + layout.header
        self._roles = np.array([ROLES.index(role) for role in layout.columns], np.int64)
        if "bus" not in layout.columns:
            account.bus_names = ["bus0"]

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole lines; the last one of a file may lack its end."""
        raw = buffer.tobytes()
        end = len(raw) if final else raw.rfind(b"\n") + 1
        start = 3 if not self._lines[0] and raw.startswith(b"\xef\xbb\xbf") else 0
        while self._skip and start < end:
            start = (raw.find(b"\n", start, end) + 1) or end
            self._skip -= 1
            self._lines[0] += 1
        if start >= end:
            return [], end
        raw = raw[start:end]
        text = np.frombuffer(raw if raw.endswith(b"\n") else raw + b"\n", np.uint8)
        room = raw.count(b"\n") + 2
        kinds = (np.int64, np.uint8, np.uint8, np.uint64, np.uint16, np.uint8, np.int64)
        out: Any = tuple(np.empty(room, kind) for kind in kinds)
        data, words = np.empty(len(text) + 65, np.uint8), np.zeros((room, 3), np.int64)
        layout = self._layout
        n, used, worded = _parse(
            text, ord(layout.sign), self._roles, _UNIT_DIGITS[layout.unit], layout.hex_ids, layout.hex_payload,
            self._lines, self._names, self._known, out, data, words, self._bad,
        )  # fmt: skip
        self._report()
        if not n:
            return [], end
        time, bus, form, ident, flags, dlc, length = (column[:n] for column in out)
        offsets = np.zeros(n + 1, np.int64)
        np.cumsum(length, out=offsets[1:])
        faults = np.zeros(n, np.uint32)
        for row, low, high in words[:worded].tolist():
            for word in raw[low:high].decode("ascii", "replace").lower().replace(",", " ").split():
                faults[row] |= np.uint32(FAULT_BY_WORD.get(word, 0))
        ident &= np.uint64(IDENT_MASK)
        empty = np.zeros(n, np.uint32)
        batch = FrameBatch(
            time, bus, form, ident, flags, faults, dlc, empty, empty.astype(np.uint16), offsets, data[:used]
        )
        return [with_wire_bits(batch)], end

    def _report(self) -> None:
        if "bus" in self._layout.columns:
            names = map(_unquoted, names_in(self._names, int(self._known[0])))
            self._account.bus_names = list(map(uncsv, names)) or ["bus0"]
        for reason, (count, first) in enumerate(self._bad):
            if count and reason == _CROWDED:
                self._account.lose(REASONS[reason], f"line {first}", int(count))
            elif count:
                self._account.skipped[REASONS[reason]] = int(count)
                self._account.examples.setdefault(REASONS[reason], f"line {first}")


def _unquoted(cell: str) -> str:
    return cell[1:].replace('""', '"') if cell.startswith('"') else cell


def layout_of(path: Path) -> Layout:
    """The layout that a person set for texts like this, or the one that fits it best.

    Raises:
        InputError: none fits; says what is missing.
    """
    with path.open("rb") as file:
        head = file.read(1 << 16)
    layout = remembered(head) or guess(head)
    if layout is None:
        raise InputError(str(path), missing_in(head), "a table of frames; --layout says what the columns hold")
    return layout


def reader(layout: Layout | None = None) -> Any:
    """A reader of texts of a layout; None for the one each text seems to have."""

    def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
        found = layout or layout_of(path)
        if found.problem():
            raise InputError(str(path), found.problem(), "a layout with time and identifier")
        return read_with(DelimitedParser(account, found), path, account, progress)

    return read


def _recognises(head: bytes) -> str | None:
    if b"\0" in head:
        return None
    known = remembered(head)
    layout = known or guess(head)
    if layout is None:
        return None
    return f"{layout.separator}-separated, {', '.join(c for c in layout.columns if c != '-')}" + (
        "; as you set it before" if known else ""
    )


FORMAT = Format("delimited text", _recognises, reader())
