"""Records of link type 227 (CAN), as captures of any file format carry them.

The identifier is big-endian whatever the file's byte order; its top bits say 29-bit (31), remote (30),
error (29). Then come the payload length, FD flags (1 BRS, 2 ESI, 4 FD), a reserved byte, and the raw DLC of
a classic frame where it is over 8.

Source: the link type 227 description (LINKTYPE_CAN_SOCKETCAN).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.formats.packets import LinkType, Packets, Records
from keel.lines.can import with_wire_bits
from keel.lines.can_errors import classify
from keel.media.can import EXTENDED_ID_MAX
from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, LENGTH_TO_DLC, Flag, FrameBatch
from keel.model.identity import Form
from keel.model.words64 import byte_swapped, load_word, store_word

LINK_TYPE = 227
HEADER_BYTES, MOST_BYTES = 8, 64
EXTENDED, REMOTE, ERROR = 0x8000_0000, 0x4000_0000, 0x2000_0000
FD_BRS, FD_ESI, FD_FDF, CUT = 1, 2, 4, 0x80
"""The last is no flag of a record: the reader notes so that the capture kept only a part of the payload."""
_TX, _ERROR, _REMOTE, _FD = (int(flag) for flag in (Flag.TX, Flag.ERROR, Flag.REMOTE, Flag.FD))
_BRS, _ESI, _EXTENDED, _NO_ID = int(Flag.BRS), int(Flag.ESI), int(Form.EXTENDED), int(Form.NONE)
REASONS = (
    "",
    "record shorter than an identifier",
    "payload longer than the record",
    "payload longer than 64 bytes",
)


@njit(cache=True, nogil=True)
def _take_record(buffer: Any, at: Any, captured: Any, original: Any, n: Any, used: Any, out: Any, data: Any) -> Any:
    """Take a record at ``at``, of whose ``original`` bytes ``captured`` are there, as frame ``n``.

    A frame of which the capture kept only a part has the bytes there are, and `CUT` among its FD flags.

    Returns:
        Its payload length, or minus the number of a reason.
    """
    word, fd, dlc, length = out
    cut = captured < original
    if captured < (4 if cut else 8):
        return -1
    took = np.int64(buffer[at + 4]) if captured > 4 else np.int64(0)
    if took > 64:
        return -3
    whole = took
    remote = buffer[at] & 0x40 and not buffer[at] & 0x20
    if 8 + took > captured and not remote:
        if not cut:
            return -2
        took = max(captured - np.int64(8), np.int64(0))
    top, high, low = np.int64(buffer[at]), np.int64(buffer[at + 1]), np.int64(buffer[at + 2])
    word[n] = top << 24 | high << 16 | low << 8 | np.int64(buffer[at + 3])
    fd[n] = buffer[at + 5] & 0x7F if captured > 5 else 0
    raw = np.int64(buffer[at + 7]) if captured > 7 else np.int64(0)
    dlc[n] = raw if whole == 8 and 8 < raw < 16 else LENGTH_TO_DLC[whole]
    if remote:
        took = 0
    if (took < whole and not remote) or captured < 8:
        fd[n] |= CUT
        if whole > 8:
            fd[n] |= FD_FDF
    for k in range(took):
        data[used + k] = buffer[at + 8 + k]
    length[n] = took
    return took


@njit(cache=True, nogil=True)
def _take_all(buffer: Any, at: Any, captured: Any, original: Any, sent: Any, out: Any, data: Any, refused: Any) -> Any:
    """Take all records; returns how many are frames, and the bytes of their payloads.

    Whole ones, which nearly all are, are read eight bytes at a time; ``data`` has eight bytes more than they need.
    """
    word, fd, dlc, length, form, ident, flags = out
    n = used = 0
    for i in range(len(at)):
        size = captured[i]
        took = np.int64(-1)
        if size == original[i] and size >= HEADER_BYTES:
            head = load_word(buffer, at[i])
            whole = np.int64((head >> np.uint64(32)) & np.uint64(0xFF))
            if whole <= 8 and HEADER_BYTES + whole <= size and at[i] + 2 * HEADER_BYTES <= len(buffer):
                first = np.int64(byte_swapped(head) >> np.uint64(32))
                raw = np.int64(head >> np.uint64(56))
                took = np.int64(0) if first & REMOTE and not first & ERROR else whole
                word[n], fd[n] = first, (head >> np.uint64(40)) & np.uint64(0x7F)
                dlc[n] = raw if whole == 8 and 8 < raw < 16 else whole
                length[n] = took
                store_word(data, used, load_word(buffer, at[i] + HEADER_BYTES))
        if took < 0:
            took = _take_record(buffer, at[i], size, original[i], n, used, (word, fd, dlc, length), data)
        if took < 0:
            refused[i] = -took
            continue
        first, bits = word[n], np.int64(fd[n])
        flag = _TX if sent[i] else 0
        if first & ERROR:
            form[n], ident[n], flags[n] = _NO_ID, np.uint64(0), flag | _ERROR
        else:
            extended = first & EXTENDED
            form[n] = _EXTENDED if extended else 0
            ident[n] = np.uint64(first & (EXTENDED_ID_MAX if extended else 0x7FF))
            flag |= _REMOTE if first & REMOTE else 0
            # Older captures of FD frames lack the FD flag; only an FD frame is longer than 8 bytes.
            if bits & FD_FDF or took > 8:
                flag |= _FD | (_BRS if bits & FD_BRS else 0) | (_ESI if bits & FD_ESI else 0)
            flags[n] = flag
        n += 1
        used += took
    return n, used


class CanDecoder:
    """Makes frames of records."""

    reasons = REASONS

    def decode(self, packets: Packets) -> tuple[FrameBatch, Any]:
        """The frames, and why packets are none."""
        room = len(packets)
        kinds = (np.int64, np.uint8, np.uint8, np.int64, np.uint8, np.uint64, np.uint16)
        out: Any = tuple(np.empty(room, kind) for kind in kinds)
        most = np.minimum(packets.captured, HEADER_BYTES + MOST_BYTES).sum()
        data, refused = np.empty(int(most) + HEADER_BYTES, np.uint8), np.zeros(room, np.uint8)
        n, used = _take_all(
            packets.buffer, packets.at, packets.captured, packets.original, packets.sent, out, data, refused
        )
        word, fd, dlc, length, form, ident, flags = (column[:n] for column in out)
        kept = packets if n == room else packets.take(np.flatnonzero(refused == 0))
        offsets = np.zeros(n + 1, np.int64)
        np.cumsum(length, out=offsets[1:])
        faults, bits = np.zeros(n, np.uint32), np.zeros(n, np.uint32)
        none = np.zeros(n, np.uint16)
        batch = FrameBatch(
            kept.time, kept.bus, form, ident, flags, faults, dlc, bits, none, offsets, data[:used]
        )  # fmt: skip
        rows = np.flatnonzero(form == _NO_ID)
        if len(rows):
            number = (word[rows] & EXTENDED_ID_MAX).astype(np.uint64)
            faults[rows] = classify(number, batch.take(rows).matrix(0, len(rows), 8))
        faults[(fd & CUT) != 0] |= np.uint32(Fault.TRUNCATED)
        return with_wire_bits(batch), refused


def frames_to_records(batch: FrameBatch) -> Records:
    """What stands in the records of some frames. A remote request has as many bytes as it asks for, all 0."""
    from keel.lines.can_errors import error_class

    lengths = batch.lengths
    flags, form = batch.flags.astype(np.int64), batch.form
    error = (flags & Flag.ERROR) != 0
    remote = (flags & Flag.REMOTE) != 0
    is_fd = (flags & Flag.FD) != 0
    word = batch.ident.astype(np.int64) & EXTENDED_ID_MAX
    word |= np.where(form == Form.EXTENDED, EXTENDED, 0) | np.where(remote, REMOTE, 0)
    fd = np.where(is_fd, FD_FDF, 0) | np.where(flags & Flag.BRS, FD_BRS, 0) | np.where(flags & Flag.ESI, FD_ESI, 0)
    size = np.where(remote, np.asarray(FD_LENGTHS)[np.minimum(batch.dlc, 8)], lengths)
    raw = np.where((size == 8) & (batch.dlc > 8), batch.dlc.astype(np.int64), 0)
    limit = np.where(is_fd, 64, 8)
    dlc = np.where((size == 8) & (raw > 8) & (raw < 16), raw, LENGTH_TO_DLC[np.minimum(size, 64)])
    plain = (~error) & (batch.faults == 0) & (lengths <= limit) & np.isin(form, (Form.BASE, Form.EXTENDED))
    plain &= (dlc == batch.dlc) & ~(remote & (is_fd | (lengths > 0))) & (is_fd | ((flags & (Flag.BRS | Flag.ESI)) == 0))
    plain &= batch.ident <= np.where(form == Form.EXTENDED, EXTENDED_ID_MAX, 0x7FF).astype(np.uint64)
    rows = np.flatnonzero(error & (form == Form.NONE) & (batch.ident == 0) & (lengths == 8) & (batch.dlc == 8))
    if len(rows):
        details = batch.take(rows).matrix(0, len(rows), 8)
        classes = error_class(batch.faults[rows], details)
        word[rows] = classes.astype(np.int64) | ERROR
        plain[rows] = (classify(classes, details) == batch.faults[rows]) & (
            (flags[rows] & ~(Flag.ERROR | Flag.TX)) == 0
        )
    # A record's payload has 64 bytes at most; what it cannot say of a frame is said beside it.
    size = np.where(plain, size, np.minimum(size, MOST_BYTES))
    heads = np.zeros((len(batch), HEADER_BYTES + MOST_BYTES), np.uint8)
    heads[:, :4] = word.astype(">u4").view(np.uint8).reshape(-1, 4)
    heads[:, 4], heads[:, 5], heads[:, 7] = size, fd, raw
    payloads = batch.matrix(0, len(batch), MOST_BYTES)
    heads[:, HEADER_BYTES:] = np.where(np.arange(MOST_BYTES) < np.minimum(lengths, size)[:, None], payloads, 0)
    nothing = np.zeros(len(batch), np.int64)
    return Records(heads, HEADER_BYTES + size, np.zeros((len(batch), 0), np.uint8), nothing, plain, True)


LINK_TYPES = [LinkType(LINK_TYPE, "can", CanDecoder, frames_to_records)]
