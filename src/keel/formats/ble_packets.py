"""Packets of link types 251 and 256: Bluetooth Low Energy link layer, without and with what the radio says.

A packet of type 256 begins with ten bytes: RF channel, signal and noise power, offences in the access address, a
reference access address, flags. Then, as in type 251, come the access address, the PDU and its CRC. With the coded
physical layer a coding indicator follows the access address.

Source: the link type descriptions (LINKTYPE_BLUETOOTH_LE_LL, LINKTYPE_BLUETOOTH_LE_LL_WITH_PHDR); Bluetooth Core
Specification 5.4, volume 6, part B, 2.1 to 2.4 and 3.1.1 (CRC).
"""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numba import njit

from keel.formats.packets import LinkType, Packets, Records, gather, little_number, says
from keel.media import ble
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, batch_of, replace_columns

PLAIN, WITH_RADIO = 251, 256
RADIO_BYTES = 10
ADVERTISING_ACCESS = 0x8E89BED6
ADVERTISING_INIT = 0x555555
SIGNAL_VALID, DECRYPTED, CRC_CHECKED, CRC_VALID = 0x0002, 0x0008, 0x0400, 0x0800
AUXILIARY_PDU, TO_PERIPHERAL, TO_CENTRAL = 1, 2, 3
CODED = 2
SHORTEST = 9
"""Access address, the PDU's header, CRC."""
REASONS = ("", "packet shorter than a BLE packet can be")
_CRC = 0xDA6000
"""The polynomial, bits reversed: x^24 + x^10 + x^9 + x^6 + x^4 + x^3 + x + 1."""
CONNECT_IND, SCAN_REQ, SCAN_RSP, EXTENDED, CONNECT_RSP = 5, 3, 4, 7, 8
START_ENCRYPTION = 5
"""The opcode of LL_START_ENC_REQ, the last PDU that is not encrypted. Source: part B, 2.4.2.6."""


def _crc_table() -> Any:
    table = np.zeros(256, np.uint32)
    for byte in range(256):
        crc = byte
        for _ in range(8):
            crc = (crc >> 1) ^ _CRC if crc & 1 else crc >> 1
        table[byte] = crc
    return table


_TABLE = _crc_table()


@njit(cache=True, nogil=True)
def _crcs(buffer: Any, starts: Any, ends: Any, inits: Any, out: Any) -> None:
    for i in range(len(starts)):
        crc = np.uint32(inits[i])
        for k in range(starts[i], ends[i]):
            crc = (crc >> np.uint32(8)) ^ _TABLE[(crc ^ np.uint32(buffer[k])) & np.uint32(0xFF)]
        out[i] = crc


def crc24(data: bytes, init: int = ADVERTISING_INIT) -> int:
    """The CRC of a PDU, header included, as it stands in a packet, least significant byte first."""
    out = np.zeros(1, np.uint32)
    whole = np.frombuffer(data, np.uint8)
    _crcs(whole, np.zeros(1, np.int64), np.array([len(data)]), np.array([reversed24(init)]), out)
    return int(out[0])


def reversed24(value: int) -> int:
    """The 24 bits of a number the other way round."""
    return int(f"{value & 0xFFFFFF:024b}"[::-1], 2)


class BleDecoder:
    """Makes frames of packets.

    It learns from connection requests with which value the CRC of a connection begins, and from control PDUs where
    encryption begins; and it remembers the last PDU of each device, to know those of one advertising event.
    """

    reasons = REASONS

    def __init__(self, with_radio: bool) -> None:
        self._with_radio = with_radio
        self._inits = {ADVERTISING_ACCESS: ADVERTISING_INIT}
        self._encrypted: set[int] = set()
        self._latest: dict[tuple[int, int], tuple[int, int]] = {}

    def decode(self, packets: Packets) -> tuple[FrameBatch, Any]:
        """The frames, and why packets are none."""
        skip = RADIO_BYTES if self._with_radio else 0
        refused = np.where(packets.captured < skip + SHORTEST, 1, 0)
        kept = packets.take(np.flatnonzero(refused == 0))
        head = np.zeros((len(kept), ble.HEADER_BYTES), np.uint8)
        radio = kept.heads(RADIO_BYTES) if self._with_radio else np.zeros((len(kept), RADIO_BYTES), np.uint8)
        flags = radio[:, 8].astype(np.int64) | radio[:, 9].astype(np.int64) << 8
        coded = (flags >> 14 == CODED) & (kept.captured > skip + SHORTEST)
        pdu = kept.at + skip + 4 + coded
        body = kept.heads(skip + 7)[:, skip:]
        head[:, 0] = 2 if self._with_radio else 1
        head[:, 1:5], head[:, 10:20], head[:, 23] = body[:, :4], radio, np.where(coded, body[:, 4], 0)
        head[:, 5] = kept.buffer[pdu]
        head[:, 6] = kept.buffer[pdu + 1]
        end = kept.at + kept.captured
        cut = kept.captured < kept.original
        payload_end = np.where(cut, end, end - 3)
        payload_end = np.where(cut, np.minimum(payload_end, pdu + 2 + head[:, 6]), payload_end)
        payload_end = np.maximum(payload_end, pdu + 2)
        for k in range(3):
            head[:, 7 + k] = np.where(cut, 0, kept.buffer[np.minimum(end - 3 + k, len(kept.buffer) - 1)])
        offsets, data = gather(kept.buffer, pdu + 2, payload_end - pdu - 2)
        batch = replace_columns(
            batch_of(kept.time, np.zeros(len(kept), np.uint64), [b""] * len(kept), bus=kept.bus, dlc=0),
            offsets=offsets,
            data=data,
            header=head,
        )
        lengths = batch.lengths
        faults = np.where(cut, int(Fault.TRUNCATED), 0) | np.where(~cut & (lengths != head[:, 6]), int(Fault.LENGTH), 0)
        access = little_number(head, 1, 4)
        self._set_type(head, access, flags)
        self._learn(batch, access)
        faults |= self._check(batch, kept, pdu, payload_end, access, flags, cut)
        form, ident = _identified(batch, access, flags)
        batch = replace_columns(batch, faults=faults.astype(np.uint32), form=form, ident=ident)
        aside = self._same_event(batch)
        return replace_columns(batch, flags=np.where(aside, int(Flag.ASIDE), 0).astype(np.uint16)), refused

    def _set_type(self, head: Any, access: Any, flags: Any) -> None:
        """Type, channel, and what is known, from what the packet and the radio say."""
        first, group = head[:, 5].astype(np.int64), flags >> 7 & 7
        channel = head[:, 10]
        index = np.where(channel == 0, 37, np.where(channel == 12, 38, np.where(channel == 39, 39, 0)))
        index = np.where((channel > 0) & (channel < 12), channel - 1, index)
        index = np.where((channel > 12) & (channel < 39), channel - 2, index)
        knows_channel = self._with_radio & (channel < 40)
        secondary = (group == AUXILIARY_PDU) | (knows_channel & (index < 37) & (access == ADVERTISING_ACCESS))
        advertising = (access == ADVERTISING_ACCESS) | (group == AUXILIARY_PDU)
        kind = first & 15
        extra = np.where(kind == EXTENDED, ble.AUXILIARY + np.where(group == AUXILIARY_PDU, flags >> 12 & 3, 0), kind)
        extra = np.where(kind == SCAN_REQ, ble.AUXILIARY + 4, np.where(kind == CONNECT_IND, ble.AUXILIARY + 5, extra))
        on_primary = np.where((kind == EXTENDED) & ~knows_channel, ble.EXTENDED, kind)
        found = np.where(secondary, extra, on_primary)
        head[:, 20] = np.where(advertising, found, ble.DATA + (first & 3))
        head[:, 22] = np.where(knows_channel, index, 0)
        knows = np.where(advertising, ble.ADVERTISING, 0) | np.where(knows_channel, ble.KNOWS_CHANNEL, 0)
        knows |= np.where(self._with_radio & ((flags & SIGNAL_VALID) != 0), ble.KNOWS_RSSI, 0)
        knows |= np.where(self._with_radio & (flags >> 14 < 3), ble.KNOWS_PHY, 0)
        head[:, 21] = knows

    def _learn(self, batch: FrameBatch, access: Any) -> None:
        """What connection requests and control PDUs say of what follows them."""
        head = batch.header
        assert head is not None
        kind = head[:, 20]
        requests = np.isin(kind, (CONNECT_IND, ble.AUXILIARY + 5)) & (batch.lengths >= 19)
        for row in np.flatnonzero(requests).tolist():
            said = batch.payload(row)
            self._inits[int.from_bytes(said[12:16], "little")] = int.from_bytes(said[16:19], "little")
            self._encrypted.discard(int.from_bytes(said[12:16], "little"))
        control = np.flatnonzero((kind == ble.DATA + 3) & (batch.lengths == 1))
        begins: dict[int, int] = dict.fromkeys(self._encrypted, -1)
        for row in control.tolist():
            if batch.payload(row)[0] == START_ENCRYPTION:
                begins.setdefault(int(access[row]), row)
        for one, row in begins.items():
            after = (access == one) & (np.arange(len(batch)) > row) & (batch.lengths > 0)
            head[after, 21] |= ble.ENCRYPTED
        self._encrypted |= set(begins)
        open_ = (little_number(head, 18, 2) & DECRYPTED) != 0
        head[open_, 21] &= 0xFF ^ ble.ENCRYPTED

    def _check(
        self, batch: FrameBatch, packets: Packets, start: Any, end: Any, access: Any, flags: Any, cut: Any
    ) -> Any:
        """Check CRCs, where it is known how they begin; else what the radio says of them is taken."""
        head = batch.header
        assert head is not None
        known, places = np.unique(access, return_inverse=True)
        table = [self._inits.get(int(one)) for one in known.tolist()]
        can = np.array([init is not None for init in table] or [False])[places] & ~cut
        inits = np.array([reversed24(init or 0) for init in table] or [0])[places]
        found = np.zeros(len(batch), np.uint32)
        _crcs(packets.buffer, start, np.where(can, end, start), inits, found)
        right = found == little_number(head, 7, 3)
        told = self._with_radio & ((flags & CRC_CHECKED) != 0) & ~can
        right = np.where(can, right, (flags & CRC_VALID) != 0)
        head[:, 21] |= np.where(can | told, ble.KNOWS_CRC, 0).astype(np.uint8)
        head[:, 21] |= np.where((can | told) & right, ble.CRC_OK, 0).astype(np.uint8)
        return np.where((can | told) & ~right, int(Fault.CRC), 0)

    def _same_event(self, batch: FrameBatch) -> Any:
        """Which frames repeat, on another channel, the one before of the same device and advertising event."""
        head = batch.header
        assert head is not None
        aside = np.zeros(len(batch), np.bool_)
        rows = np.flatnonzero(
            np.isin(batch.form, (ble.PUBLIC.number, ble.RANDOM.number, ble.ACCESS.number))
            & ((head[:, 21] & ble.ADVERTISING) != 0)
            & batch.is_sound(slice(None))
        )
        if not len(rows):
            return aside
        keys = batch.keys()[rows]
        rows = rows[np.argsort(keys, kind="stable")]
        keys = batch.keys()[rows]
        kind, time = head[rows, 20], batch.time[rows]
        knows = (head[rows, 21] & ble.KNOWS_CHANNEL) != 0
        channel = np.where(knows, head[rows, 22].astype(np.int64), -1)
        same = np.zeros(len(rows), np.bool_)
        alike = (keys[1:] == keys[:-1]) & (kind[1:] == kind[:-1])
        near = (time[1:] - time[:-1] >= 0) & (time[1:] - time[:-1] <= ble.EVENT_NS)
        told = (channel[1:] >= 0) & (channel[:-1] >= 0)
        same[1:] = alike & near & (~told | (channel[1:] > channel[:-1]))
        firsts = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]]))
        ends = np.append(firsts[1:], len(rows)) - 1
        for first, last in zip(firsts.tolist(), ends.tolist(), strict=True):
            before = self._latest.get((int(keys[first]), int(kind[first])))
            if before is not None and 0 <= time[first] - before[0] <= ble.EVENT_NS:
                same[first] = channel[first] < 0 or before[1] < channel[first]
            self._latest[int(keys[last]), int(kind[last])] = int(time[last]), int(channel[last])
        aside[rows] = same
        return aside


def _identified(batch: FrameBatch, access: Any, flags: Any) -> tuple[Any, Any]:
    """Form and identifier of each frame: the sender's address where the PDU has one, else the access address."""
    head = batch.header
    assert head is not None
    kind, lengths = head[:, 20].astype(np.int64), batch.lengths
    payload = batch.matrix(0, len(batch), 8)
    advertising = (head[:, 21] & ble.ADVERTISING) != 0
    plain = np.isin(kind, (0, 1, 2, 3, 4, 5, 6, ble.AUXILIARY + 4, ble.AUXILIARY + 5)) & (lengths >= 6)
    extended = np.isin(kind, (EXTENDED, CONNECT_RSP, ble.EXTENDED, *range(ble.AUXILIARY, ble.AUXILIARY + 4)))
    extended &= (lengths >= 8) & ((payload[:, 0] & 63) >= 7) & ((payload[:, 1] & 1) != 0)
    sender = np.where(extended, little_number(payload, 2, 6), little_number(payload, 0, 6))
    has_sender = advertising & (plain | extended)
    is_random = (head[:, 5] & 0x40) != 0
    role = np.where(np.isin(kind, (SCAN_RSP, CONNECT_RSP, ble.AUXILIARY + 3)), 1, 0)
    role = np.where(np.isin(kind, (SCAN_REQ, CONNECT_IND, ble.AUXILIARY + 4, ble.AUXILIARY + 5)), 2, role)
    role = np.where((kind >= ble.AUXILIARY) & (kind < ble.AUXILIARY + 3), 3, role)
    public, random = (np.array([form.number for form in forms]) for forms in (ble.PUBLIC_FORMS, ble.RANDOM_FORMS))
    group = flags >> 7 & 7
    link = np.where(~advertising & (group == TO_PERIPHERAL), ble.CENTRAL.number, ble.ACCESS.number)
    link = np.where(~advertising & (group == TO_CENTRAL), ble.PERIPHERAL.number, link)
    form = np.where(has_sender, np.where(is_random, random[role], public[role]), link)
    return form.astype(np.uint8), np.where(has_sender, sender, access).astype(np.uint64)


def _records(with_radio: bool, batch: FrameBatch) -> Records:
    head = batch.header if batch.header is not None else np.zeros((len(batch), ble.HEADER_BYTES), np.uint8)
    coded = with_radio & (head[:, 19] >> 6 == CODED)
    parts = [head[:, 10:20]] if with_radio else []
    plain = np.concatenate([*parts, head[:, 1:5], head[:, 5:7], np.zeros((len(batch), 1), np.uint8)], axis=1)
    begins = plain.shape[1] - 3
    plain[coded, begins:] = np.stack([head[coded, 23], head[coded, 5], head[coded, 6]], axis=1)
    cut = (batch.faults & np.uint64(Fault.TRUNCATED)) != 0
    missing = np.where(cut, np.maximum(head[:, 6].astype(np.int64) - batch.lengths, 0) + 3, 0)
    sizes = np.where(coded, begins + 3, begins + 2)
    return Records(plain, sizes, head[:, 7:10], missing, np.ones(len(batch), np.bool_))


LINK_TYPES = [
    LinkType(PLAIN, "ble", partial(BleDecoder, False), partial(_records, False), partial(says, 0, 1)),
    LinkType(WITH_RADIO, "ble", partial(BleDecoder, True), partial(_records, True), partial(says, 0, 2)),
]
