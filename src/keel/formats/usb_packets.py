"""Packets of link types 189 and 220: requests to USB devices as a Linux host's driver submits them and gets them back.

A packet begins with 48 bytes: request tag, event (S, C, E), kind of transfer, endpoint with its direction, device,
bus, whether there is setup and data, time (which the capture says too), status, length, length of what follows, setup
data or isochronous counts. Those of type 220 have 16 more (interval, start frame, flags, count of descriptors) and, for
isochronous transfers, descriptors of 16 bytes each before the data. All in the byte order of the file.

Source: the link type descriptions (LINKTYPE_USB_LINUX, LINKTYPE_USB_LINUX_MMAPPED).
"""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np

from keel.formats.packets import LinkType, Packets, Records, gather, little_number, put_little_number, says
from keel.media import usb
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, batch_of, replace_columns

SHORT, LONG = 189, 220
HEAD_BYTES = {SHORT: 48, LONG: 64}
DESCRIPTOR_BYTES = 16
REASONS = ("", "packet shorter than a USB header", "event that is none of S, C, E")
EVENTS = (ord("S"), ord("C"), ord("E"))
SUBMIT, COMPLETE, ERROR = range(3)
PENDING = -115
FAULTS = {
    -32: Fault.STALL, -110: Fault.TIMEOUT, -62: Fault.TIMEOUT, -84: Fault.CRC, -71: Fault.NO_RESPONSE,
    -19: Fault.NO_RESPONSE, -108: Fault.NO_RESPONSE, -75: Fault.LENGTH, -121: Fault.LENGTH,
}  # fmt: skip
"""What a status that is not 0 stands for; any other is `Fault.OTHER`, but for requests that were taken back."""
TAKEN_BACK = (-2, -104)
SETUP_THERE = 0
MOST_OPEN = 1 << 16
"""So many requests are remembered at most that nothing came back for."""


class UsbDecoder:
    """Makes frames of packets; it remembers when each request was submitted, by its tag."""

    reasons = REASONS

    def __init__(self, number: int) -> None:
        self._number = number
        self._open: dict[int, int] = {}

    def decode(self, packets: Packets) -> tuple[FrameBatch, Any]:
        """The frames, and why packets are none."""
        size = HEAD_BYTES[self._number]
        raw = packets.heads(64)
        events = raw[:, 8]
        refused = np.where(packets.captured < size, 1, np.where(np.isin(events, EVENTS), 0, 2))
        rows = np.flatnonzero(refused == 0)
        kept, raw = packets.take(rows), raw[rows].copy()
        if self._number == SHORT:
            raw[:, 48:] = 0
        if not kept.little:
            raw = _turned(raw)
        head = self._headers(raw)
        transfer, at_setup = raw[:, 9], raw[:, 14]
        there = kept.captured - size
        described = np.where(transfer == 0, little_number(raw, 60, 4) * DESCRIPTOR_BYTES, 0)
        skipped = np.minimum(described, there)
        # Some count the descriptors as data, some do not: how long the packet was tells.
        follows = little_number(raw, 36, 4)
        had = np.where(kept.original - size >= follows + described, follows, np.maximum(follows - described, 0))
        starts = kept.at + size + skipped
        lengths = np.minimum(there - skipped, had)
        offsets, data = gather(kept.buffer, starts, lengths)
        way_in = (raw[:, 10] & 0x80) != 0
        event = head[:, 8]
        done = event != SUBMIT
        form = np.where(done, np.where(way_in, usb.IN_DONE.number, usb.OUT_DONE.number), usb.OUT.number)
        form = np.where(~done & way_in, usb.IN.number, form)
        ident = usb.pack_endpoint(
            little_number(raw, 12, 2), little_number(raw, 11, 1), little_number(raw, 10, 1) & 0x7F
        )
        status = little_number(raw, 28, 4).astype(np.int32)
        faults = _faults(status, done)
        faults |= np.where(lengths < had, int(Fault.TRUNCATED), 0)
        head[:, 50] = np.where((transfer == 2) & (at_setup == SETUP_THERE) & ~done, usb.KNOWS_SETUP, 0)
        self._pair(head, kept.time, done)
        put_little_number(head, 52, 4, had)
        flags = np.where(way_in, 0, int(Flag.TX)) | np.where(had == 0, int(Flag.ASIDE), 0)
        batch = batch_of(
            kept.time, ident.astype(np.uint64), [b""] * len(kept), bus=kept.bus, form=form, flags=flags, faults=faults,
            dlc=0, header=head,
        )  # fmt: skip
        return replace_columns(batch, offsets=offsets, data=data), refused

    def _headers(self, raw: Any) -> Any:
        head = np.zeros((len(raw), usb.HEADER_BYTES), np.uint8)
        head[:, :8], head[:, 9:16] = raw[:, :8], raw[:, 9:16]
        head[:, 8] = np.select([raw[:, 8] == one for one in EVENTS], list(range(3)))
        head[:, 15] = self._number
        # Setup and data flags share a byte: the first is 0 or a sign, the second 0, < or >.
        head[:, 14] = raw[:, 14]
        head[:, 51] = raw[:, 15]
        head[:, 16:20], head[:, 20:24] = raw[:, 28:32], raw[:, 32:36]
        head[:, 24:32] = raw[:, 40:48]
        head[:, 32:44] = raw[:, 48:60]
        return head

    def _pair(self, head: Any, time: Any, done: Any) -> None:
        """Say of what came back how long after its submission it did."""
        tags = np.ascontiguousarray(head[:, :8]).view(np.uint64).reshape(-1)
        after = np.zeros(len(head), np.int64)
        known = np.zeros(len(head), np.bool_)
        order = np.argsort(tags, kind="stable")
        same = tags[order[1:]] == tags[order[:-1]]
        answers = np.flatnonzero(same & done[order[1:]] & ~done[order[:-1]]) + 1
        after[order[answers]] = time[order[answers]] - time[order[answers - 1]]
        known[order[answers]] = True
        # Across what was read together: what is first or last of its tag.
        firsts = order[np.flatnonzero(np.concatenate([[True], ~same]))] if len(order) else order
        for row in firsts[done[firsts]].tolist():
            begun = self._open.pop(int(tags[row]), None)
            if begun is not None:
                after[row], known[row] = int(time[row]) - begun, True
        lasts = order[np.flatnonzero(np.concatenate([~same, [True]]))] if len(order) else order
        for row in lasts.tolist():
            if done[row]:
                self._open.pop(int(tags[row]), None)
            elif len(self._open) < MOST_OPEN or int(tags[row]) in self._open:
                self._open[int(tags[row])] = int(time[row])
        known &= after >= 0
        put_little_number(head, 44, 6, np.where(known, after, 0))
        head[:, 50] |= np.where(known, usb.KNOWS_AFTER, 0).astype(np.uint8)


_FIELDS = ((0, 8), (12, 2), (16, 8), (24, 4), (28, 4), (32, 4), (36, 4), (48, 4), (52, 4), (56, 4), (60, 4))
"""Numbers in a packet's header, by place and size; setup data is bytes."""


def _turned(raw: Any) -> Any:
    """Headers of the other byte order. Isochronous counts, in the place of setup data, are two numbers."""
    turned = raw.copy()
    for at, size in _FIELDS:
        turned[:, at : at + size] = raw[:, at : at + size][:, ::-1]
    counts = raw[:, 9] == 0
    for at in (40, 44):
        turned[counts, at : at + 4] = raw[counts, at : at + 4][:, ::-1]
    return turned


def _faults(status: Any, done: Any) -> Any:
    ended_badly = done & (status != 0) & ~np.isin(status, TAKEN_BACK) & (status != PENDING)
    faults = np.where(ended_badly, int(Fault.OTHER), 0)
    for number, fault in FAULTS.items():
        faults = np.where(ended_badly & (status == number), int(fault), faults)
    return faults


def _records(number: int, batch: FrameBatch) -> Records:
    head = batch.header if batch.header is not None else np.zeros((len(batch), usb.HEADER_BYTES), np.uint8)
    raw = np.zeros((len(batch), HEAD_BYTES[number]), np.uint8)
    raw[:, :8], raw[:, 9:14] = head[:, :8], head[:, 9:14]
    raw[:, 8] = np.array(EVENTS, np.uint8)[np.minimum(head[:, 8], 2)]
    raw[:, 14], raw[:, 15] = head[:, 14], head[:, 51]
    put_little_number(raw, 16, 8, batch.time // 1_000_000_000)
    put_little_number(raw, 24, 4, batch.time % 1_000_000_000 // 1000)
    raw[:, 28:32], raw[:, 32:36] = head[:, 16:20], head[:, 20:24]
    had = little_number(head, 52, 4)
    put_little_number(raw, 36, 4, had)
    raw[:, 40:48] = head[:, 24:32]
    if number == LONG:
        raw[:, 48:60] = head[:, 32:44]
    missing = np.maximum(had - batch.lengths, 0)
    nothing = np.zeros((len(batch), 0), np.uint8)
    return Records(raw, np.full(len(batch), raw.shape[1]), nothing, missing, np.ones(len(batch), np.bool_))


LINK_TYPES = [
    LinkType(number, "usb", partial(UsbDecoder, number), partial(_records, number), partial(says, 15, number))
    for number in (SHORT, LONG)
]
