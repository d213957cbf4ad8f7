"""Bracketed CAN text logs, one frame a line.

    (1700000000.123456) bus0 1A0#0011223344556677     11-bit identifier, classic
    (1700000000.123456) bus0 18FECA17#0011            29-bit identifier: eight digits
    (1700000000.123456) bus0 1A0#R4                   remote, DLC 4
    (1700000000.123456) bus0 1A0##10011               FD; the digit holds flags: 1 = BRS, 2 = ESI

A bus name holds no spaces and no #: ``%20`` stands for a space, as any byte may be written, and ``%`` alone for none.
Lines that are none of these are counted by reason and passed over.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import quote

import numpy as np
from numba import njit

from keel.formats.cells import MAX_NAME, names_in, new_names
from keel.formats.reader import Account, Format, Progress, read_with
from keel.formats.regular_lines import NAME_SLOTS, PADDING, learn_name, regular
from keel.lines.can import with_wire_bits
from keel.lines.can_errors import ERROR_FRAME, classify
from keel.media.can import EXTENDED_ID_MAX
from keel.media.every import format_ident
from keel.model.bus import MOST_BUSES
from keel.model.faults import Fault
from keel.model.frames import LENGTH_TO_DLC, Bytes, Flag, FrameBatch, Mask, replace_columns
from keel.model.identity import Form

REASONS = (
    "",
    "no time in brackets",
    "no bus name",
    "no identifier of 3 or 8 hex digits before #",
    "identifier out of range",
    "payload is not whole bytes in hex",
    "payload longer than 8 bytes, or 64 with FD",
    "line is cut short",
    f"frames of more than {MOST_BUSES} buses",
)
_CROWDED = 8
NEWLINE = 10
_REMOTE, _FD, _ERROR = int(Flag.REMOTE), int(Flag.FD), int(Flag.ERROR)
_EXTENDED, _NO_ID = int(Form.EXTENDED), int(Form.NONE)
_FLAGS_OF_DIGIT = np.array(
    [_FD | (int(Flag.BRS) if d & 1 else 0) | (int(Flag.ESI) if d & 2 else 0) for d in range(16)], np.uint16
)
_HEX = np.full(256, 255, np.uint8)
for _digit, _char in enumerate(b"0123456789abcdef"):
    _HEX[_char] = _HEX[ord(chr(_char).upper())] = _digit
_TO_NS = np.array([10 ** (9 - n) for n in range(10)], np.int64)


@njit(cache=True, nogil=True)
def _parse(text: Any, size: Any, lines: Any, names: Any, known: Any, slots: Any, out: Any, data: Any, bad: Any) -> Any:
    """Parse whole lines of ``text``.

    Args:
        text: ``size`` bytes that end with a newline, and `PADDING` more.
        lines: One number, lines counted so far; advanced.
        names: Bus names found so far; see `keel.formats.cells.new_names`.
        known: One number, how many bus names there are; advanced.
        slots: Short names by their word; see `keel.formats.regular_lines`.
        out: Columns to fill: time, bus, form, ident, flags, dlc, payload length.
        data: Payload bytes to fill.
        bad: For each reason the count and the first line; advanced.

    Returns:
        Frames, payload bytes, and lines that hold nothing.
    """
    time, bus, form, ident, flags, dlc, length = out
    n = used = blank = at = 0
    last_bus = 0
    while at < size:
        taken = n
        n, used, at = regular(text, at, size, slots, out, data, n, used, _FLAGS_OF_DIGIT)
        lines[0] += n - taken
        if at >= size:
            break
        end = at
        while text[end] != 10:
            end += 1
        next_line = end + 1
        lines[0] += 1
        while end > at and (text[end - 1] == 13 or text[end - 1] == 32 or text[end - 1] == 9):
            end -= 1
        while at < end and (text[at] == 32 or text[at] == 9):
            at += 1
        if at == end:
            blank += 1
            at = next_line
            continue
        reason = 0
        # Time: digits, a point, one to nine digits.
        seconds = fraction = 0
        digits = places = 0
        if text[at] != 40:
            reason = 1
        else:
            at += 1
            while at < end and 48 <= text[at] <= 57 and digits < 10:
                seconds = seconds * 10 + (text[at] - 48)
                digits += 1
                at += 1
            if at < end and text[at] == 46:
                at += 1
                while at < end and 48 <= text[at] <= 57 and places < 9:
                    fraction = fraction * 10 + (text[at] - 48)
                    places += 1
                    at += 1
            if at >= end:
                reason = 7
            elif digits == 0 or text[at] != 41 or seconds > 9_000_000_000:
                reason = 1
            else:
                at += 1
        # Bus name: printable bytes.
        if reason == 0:
            while at < end and (text[at] == 32 or text[at] == 9):
                at += 1
            begin = at
            while at < end and text[at] > 32 and text[at] != 35 and text[at] != 127:
                at += 1
            count = at - begin
            if at >= end:
                reason = 7
            elif count == 0 or count > MAX_NAME or (text[at] != 32 and text[at] != 9):
                reason = 2
            else:
                found = -1
                for probe in range(known[0] + 1):
                    which = last_bus if probe == 0 else probe - 1
                    if which >= known[0] or names[which, 0] != count:
                        continue
                    same = True
                    for k in range(count):
                        if names[which, 1 + k] != text[begin + k]:
                            same = False
                            break
                    if same:
                        found = which
                        break
                if found < 0:
                    if known[0] >= len(names):
                        reason = 8
                    else:
                        found = known[0]
                        names[found, 0] = count
                        for k in range(count):
                            names[found, 1 + k] = text[begin + k]
                        learn_name(names, found, slots)
                        known[0] += 1
                last_bus = max(found, 0)
        # Identifier: three or eight hex digits before a #.
        number = np.int64(0)
        kind = 0
        if reason == 0:
            while at < end and (text[at] == 32 or text[at] == 9):
                at += 1
            begin = at
            while at < end and _HEX[text[at]] < 16 and at - begin < 9:
                number = number << 4 | np.int64(_HEX[text[at]])
                at += 1
            count = at - begin
            if at >= end:
                reason = 7
            elif text[at] != 35 or (count != 3 and count != 8):
                reason = 3
            else:
                at += 1
                if count == 3 and number > 0x7FF:
                    reason = 4
                elif count == 8:
                    kind = _EXTENDED
                    if number & 0x20000000 and number < 0x40000000:
                        kind = _NO_ID
                    elif number > EXTENDED_ID_MAX:
                        reason = 4
        # Payload.
        flag = 0
        took = 0
        code = -1
        if reason == 0:
            most = 8
            if at < end and text[at] == 35:
                at += 1
                most = 64
                if at >= end:
                    reason = 7
                elif _HEX[text[at]] > 15:
                    reason = 5
                else:
                    flag = int(_FLAGS_OF_DIGIT[_HEX[text[at]]])
                    at += 1
            elif at < end and (text[at] == 82 or text[at] == 114):
                flag = _REMOTE
                at += 1
                code = 0
                if at < end and _HEX[text[at]] < 16:
                    code = int(_HEX[text[at]])
                    at += 1
                if at < end:
                    reason = 5
            if reason == 0 and not flag & _REMOTE:
                while at + 1 < end and _HEX[text[at]] < 16 and _HEX[text[at + 1]] < 16:
                    if took == most:
                        break
                    data[used + took] = _HEX[text[at]] << 4 | _HEX[text[at + 1]]
                    took += 1
                    at += 2
                if at < end:
                    if took == most and _HEX[text[at]] < 16:
                        reason = 6
                    else:
                        reason = 7 if at == end - 1 and _HEX[text[at]] < 16 else 5
        if reason:
            if bad[reason, 0] == 0:
                bad[reason, 1] = lines[0]
            bad[reason, 0] += 1
        else:
            time[n] = seconds * 1_000_000_000 + fraction * _TO_NS[places]
            bus[n] = last_bus
            form[n] = kind
            ident[n] = number
            flags[n] = flag | (_ERROR if kind == _NO_ID else 0)
            dlc[n] = code if code >= 0 else LENGTH_TO_DLC[took]
            length[n] = took
            used += took
            n += 1
        at = next_line
    return n, used, blank


def _with_error_frames(batch: FrameBatch) -> FrameBatch:
    """Turn the error class, which came in place of an identifier, into fault bits."""
    rows = np.flatnonzero(batch.form == _NO_ID)
    if not len(rows):
        return batch
    errors = batch.take(rows)
    details = errors.matrix(0, len(rows), 8)
    faults = batch.faults.copy()
    ident = batch.ident.copy()
    faults[rows] = classify(errors.ident & np.uint64(EXTENDED_ID_MAX & ~ERROR_FRAME), details)
    ident[rows] = 0
    return replace_columns(batch, faults=faults, ident=ident)


class TextParser:
    """Reads a log piece by piece, whole lines at a time."""

    def __init__(self, account: Account, where: str = "text") -> None:
        self._account = account
        self._names, self._known = new_names()
        self._slots = np.zeros((NAME_SLOTS, 2), np.uint64)
        self._lines = np.zeros(1, np.int64)
        self._bad = np.zeros((len(REASONS), 2), np.int64)

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole lines; the last one of a file may lack its end."""
        # Eight characters are looked at together, also beyond the end: only the last lines are copied for that.
        end = _last_line_end(buffer[: max(len(buffer) - PADDING, 0)])
        batches = self._lines_of(buffer, end) if end else []
        stop = len(buffer) if final else end + _last_line_end(buffer[end:])
        if end < stop:
            size = stop - end
            rest = np.zeros(size + 1 + PADDING, np.uint8)
            rest[:size] = buffer[end:stop]
            if rest[size - 1] != NEWLINE:
                rest[size] = NEWLINE
                size += 1
            rest.setflags(write=False)
            batches += self._lines_of(rest, size)
        return batches, stop

    def _lines_of(self, text: Bytes, size: int) -> list[FrameBatch]:
        """The frames of whole lines, ``size`` bytes of them, with `PADDING` after."""
        # The shortest frame line has 12 characters and its newline.
        room = size // 12 + 1
        kinds = (np.int64, np.uint8, np.uint8, np.uint64, np.uint16, np.uint8, np.int64)
        out: Any = tuple(np.empty(room, kind) for kind in kinds)
        data = np.empty(size // 2 + 65 + PADDING, np.uint8)
        n, used, _ = _parse(text, size, self._lines, self._names, self._known, self._slots, out, data, self._bad)
        _report(self._account, self._bad, self._names, int(self._known[0]))
        if not n:
            return []
        time, bus, form, ident, flags, dlc, length = (column[:n] for column in out)
        offsets = np.zeros(n + 1, np.int64)
        np.cumsum(length, out=offsets[1:])
        zeros = np.zeros(n, np.uint32)
        batch = FrameBatch(time, bus, form, ident, flags, zeros, dlc, zeros, flags, offsets, data[:used])
        return [with_wire_bits(_with_error_frames(batch))]


def _last_line_end(buffer: Bytes) -> int:
    """Where the last whole line ends."""
    look = 1 << 12
    while len(buffer):
        found = np.flatnonzero(buffer[-look:] == NEWLINE)
        if len(found) or look >= len(buffer):
            return max(len(buffer) - look, 0) + int(found[-1]) + 1 if len(found) else 0
        look *= 16
    return 0


def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a log in blocks of some hundred thousand lines."""
    return read_with(TextParser(account), path, account, progress)


def unquote(name: str) -> str:
    """A bus name as it was before it was written: ``%`` alone is none, ``%20`` a space."""
    from urllib.parse import unquote as plainly

    return "" if name == "%" else plainly(name, errors="replace")


def _report(account: Account, bad: Any, names: Any, known: int) -> None:
    account.bus_names = [unquote(name) for name in names_in(names, known)]
    for reason, (count, first) in enumerate(bad):
        if count and reason == _CROWDED:
            account.lose(REASONS[reason], f"line {first}", int(count))
        elif count:
            account.skipped[REASONS[reason]] = int(count)
            account.examples.setdefault(REASONS[reason], f"line {first}")


_LINE = re.compile(rb"^[ \t]*\(\d{1,10}(\.\d{1,9})?\)[ \t]+\S+[ \t]+[0-9A-Fa-f]{3,8}#", re.M)


def _recognises(head: bytes) -> str | None:
    match = _LINE.search(head)
    if not match:
        return None
    line = head.count(b"\n", 0, match.start()) + 1
    return f"line {line} reads (time) bus identifier#payload"


FORMAT = Format("bracketed CAN text log", _recognises, read, TextParser)


LATEST_NS = 10_000_000_000 * 1_000_000_000


def unsaid(batch: FrameBatch) -> tuple[dict[str, Mask], dict[str, Mask]]:
    """What the form cannot say: by reason the frames that are left out, and those that lose something."""
    flags, lengths, remote = batch.flags, batch.lengths, (batch.flags & np.uint16(Flag.REMOTE)) != 0
    is_fd, is_can = (flags & np.uint16(Flag.FD)) != 0, np.isin(batch.form, (Form.BASE, Form.EXTENDED))
    most = np.where(is_fd, 64, 8)
    out = {
        "faulty frames": ((flags & np.uint16(Flag.ERROR)) != 0) | ((batch.faults & ~np.uint64(Fault.LOST)) != 0),
        "frames without a CAN identifier": ~is_can
        | (batch.ident > np.where(batch.form == Form.EXTENDED, EXTENDED_ID_MAX, 0x7FF).astype(np.uint64)),
        "payloads longer than 8 bytes, or 64 with FD": (lengths > most) & ~remote,
        "times before 1970 or after 2286": (batch.time < 0) | (batch.time >= LATEST_NS),
    }
    kept = ~np.logical_or.reduce(list(out.values())) if len(batch) else np.zeros(0, np.bool_)
    usual = LENGTH_TO_DLC[np.minimum(lengths, 64)]
    less = {
        "their direction": (flags & np.uint16(Flag.TX)) != 0,
        "their DLC": ~remote & (batch.dlc != usual) | (remote & (batch.dlc > 15)),
        "that frames before them were lost": (batch.faults & np.uint64(Fault.LOST)) != 0,
        "flags or a payload that such frames do not have": (remote & (is_fd | (lengths > 0)))
        | (~is_fd & ((flags & np.uint16(Flag.BRS | Flag.ESI)) != 0)),
    }
    return out, {reason: mask & kept for reason, mask in less.items()}


def format_lines(batch: FrameBatch, bus_names: list[str]) -> Iterator[str]:
    """Frames as log lines, without newlines; those that have no form here (`unsaid`) are left out."""
    out, _ = unsaid(batch)
    names = [quote(name, safe=_SAFE) or "%" for name in bus_names]
    for row in np.flatnonzero(~np.logical_or.reduce(list(out.values()))).tolist() if len(batch) else ():
        flags = int(batch.flags[row])
        ident = format_ident(int(batch.form[row]), int(batch.ident[row]))
        seconds, rest = divmod(int(batch.time[row]), 1_000_000_000)
        if flags & Flag.REMOTE:
            body = f"#R{int(batch.dlc[row]):X}"
        else:
            digit = (1 if flags & Flag.BRS else 0) | (2 if flags & Flag.ESI else 0)
            body = (f"##{digit}" if flags & Flag.FD else "#") + batch.payload(row).hex().upper()
        fraction = f"{rest:09d}" if rest % 1000 else f"{rest // 1000:06d}"
        yield f"({seconds}.{fraction}) {names[batch.bus[row]]} {ident}{body}"


_SAFE = "!$&'()*+,-./:;<=>?@[]^_`{|}~\"\\"
"""What stands in a name as it is; letters of other scripts do, too, in effect: they are undone on the way in."""
