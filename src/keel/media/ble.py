"""Bluetooth Low Energy: what its link layer says in the air.

Source: Bluetooth Core Specification 5.4, volume 6, part B, 1.3 (addresses), 1.4.1 (channel indices), 2.1 (packets),
2.3 (advertising), 2.4 (data).
"""

from __future__ import annotations

import re

from keel.media import ble_says
from keel.media.header import HeaderField, first_row
from keel.media.medium import HeaderBits, IdentForm, Medium
from keel.model.faults import Fault
from keel.model.frames import FrameBatch

HEADER_BYTES = 24
"""A header, by byte: 0 how the capture wrote it, 1 access address (4), 5 the PDU's own header (2), 7 CRC (3),
10 what a capture with radio data says (channel, signal, noise, offences, reference address (4), flags (2)),
20 type, 21 what is known (`KNOWS_CRC` and so on), 22 channel index, 23 coding indicator."""
KNOWS_CRC, CRC_OK, KNOWS_CHANNEL, KNOWS_RSSI, KNOWS_PHY, ADVERTISING, ENCRYPTED = (1 << bit for bit in range(7))
EVENT_NS = 10_000_000
"""The PDUs of one advertising event begin within so long of each other. Source: part B, 4.4.2.1."""

ADVERTISING_TYPES = (
    "ADV_IND", "ADV_DIRECT_IND", "ADV_NONCONN_IND", "SCAN_REQ", "SCAN_RSP", "CONNECT_IND", "ADV_SCAN_IND",
    "ADV_EXT_IND", "AUX_CONNECT_RSP",
)  # fmt: skip
DATA, AUXILIARY, EXTENDED = 16, 32, 38
"""Where types begin that are no number of an advertising PDU: of data by LLID; on secondary channels; and what may be
any of the extended ones, since the capture does not say on which channel it was."""
TYPES = {
    **dict(enumerate(ADVERTISING_TYPES)),
    DATA: "LL_RESERVED", DATA + 1: "LL_DATA_CONTINUED", DATA + 2: "LL_DATA_START", DATA + 3: "LL_CONTROL",
    AUXILIARY: "AUX_ADV_IND", AUXILIARY + 1: "AUX_CHAIN_IND", AUXILIARY + 2: "AUX_SYNC_IND",
    AUXILIARY + 3: "AUX_SCAN_RSP", AUXILIARY + 4: "AUX_SCAN_REQ", AUXILIARY + 5: "AUX_CONNECT_REQ",
    EXTENDED: "EXTENDED_ADV",
}  # fmt: skip


def write_address(ident: int) -> str:
    """A device address as people write it, most significant byte first."""
    digits = f"{ident:012X}"
    return ":".join((digits[0:2], digits[2:4], digits[4:6], digits[6:8], digits[8:10], digits[10:12]))


def read_address(text: str) -> tuple[int, int] | None:
    """A device address with colons or without, ``?`` for any digit, and which of its bits are meant."""
    digits = text.replace(":", "").upper()
    if len(digits) != 12 or not re.fullmatch(r"(..:){5}..|.{12}", text) or not re.fullmatch(r"[0-9A-F?]+", digits):
        return None
    meant = int("".join("0" if digit == "?" else "F" for digit in digits), 16)
    return int(digits.replace("?", "0"), 16), meant


def _address(number: int, word: str, title: str, role: str = "") -> IdentForm:
    return IdentForm(number, word, title, 48, role=role, written=write_address, read=read_address)


def _access(number: int, word: str, role: str = "") -> IdentForm:
    return IdentForm(number, word, "access address", 32, role=role, written=lambda ident: f"{ident:08X}")


PUBLIC = _address(4, "ble-public", "public address", "advertising")
RANDOM = _address(6, "ble-random", "random address", "advertising")
PUBLIC_RESPONSE = _address(7, "ble-public-response", "public address", "response")
RANDOM_RESPONSE = _address(8, "ble-random-response", "random address", "response")
PUBLIC_REQUEST = _address(9, "ble-public-request", "public address", "request")
RANDOM_REQUEST = _address(10, "ble-random-request", "random address", "request")
PUBLIC_EXTENDED = _address(11, "ble-public-extended", "public address", "extended")
RANDOM_EXTENDED = _address(12, "ble-random-extended", "random address", "extended")
ACCESS = _access(13, "ble-access")
CENTRAL = _access(14, "ble-central", "from the central")
PERIPHERAL = _access(15, "ble-peripheral", "from the peripheral")
PUBLIC_FORMS = (PUBLIC, PUBLIC_RESPONSE, PUBLIC_REQUEST, PUBLIC_EXTENDED)
RANDOM_FORMS = (RANDOM, RANDOM_RESPONSE, RANDOM_REQUEST, RANDOM_EXTENDED)
"""By role: advertising, response, request, on secondary channels."""
_EXTENDED_FORMS = (PUBLIC_EXTENDED.number, RANDOM_EXTENDED.number)


def _knows(bit: int) -> tuple[int, int, int]:
    return 21 * 8 + bit.bit_length() - 1, 1, 1


FIELDS = (
    HeaderField("type", "PDU type", 20 * 8, 8, texts=TYPES, shown="word", in_bits=True),
    HeaderField("ch_sel", "takes channel selection #2", 5 * 8 + 5, 1, when=_knows(ADVERTISING), in_bits=True),
    HeaderField("tx_add", "the sender's address is random", 5 * 8 + 6, 1, when=_knows(ADVERTISING), in_bits=True),
    HeaderField("rx_add", "the target's address is random", 5 * 8 + 7, 1, when=_knows(ADVERTISING), in_bits=True),
    HeaderField("length", "length of the PDU's payload", 6 * 8, 8, unit="bytes", in_bits=True),
    HeaderField("access_address", "access address", 1 * 8, 32, shown="hex"),
    HeaderField("crc", "CRC as sent", 7 * 8, 24, shown="hex"),
    HeaderField("crc_ok", "CRC is right", 21 * 8 + 1, 1, shown="yes", when=_knows(KNOWS_CRC)),
    HeaderField("channel", "channel index", 22 * 8, 8, when=_knows(KNOWS_CHANNEL)),
    HeaderField("rssi", "signal strength", 11 * 8, 8, signed=True, unit="dBm", when=_knows(KNOWS_RSSI)),
    HeaderField(
        "phy", "physical layer", 19 * 8 + 6, 2, texts={0: "1M", 1: "2M", 2: "coded"}, shown="word",
        when=_knows(KNOWS_PHY),
    ),
    HeaderField("encrypted", "encrypted", 21 * 8 + 6, 1, shown="yes"),
)  # fmt: skip


def private_kind(ident: int) -> str:
    """What sort of random address it is. Source: part B, 1.3.2."""
    return {0: "non-resolvable private: it changes", 1: "resolvable private: it changes", 3: "static"}.get(
        ident >> 46, "of a reserved kind"
    )


def _kind(frame: FrameBatch) -> str:
    if frame.header is None:
        return "BLE"
    row = first_row(FIELDS, frame.header)
    kind = ["BLE", TYPES.get(row["type"][1] or 0, "of a type that is not known")]
    if row["encrypted"][1]:
        kind.append("encrypted")
    if int(frame.form[0]) in [form.number for form in RANDOM_FORMS]:
        kind.append(private_kind(int(frame.ident[0])))
    return ", ".join(kind)


def _brief(frame: FrameBatch) -> str:
    assert frame.header is not None
    row = first_row(FIELDS, frame.header)
    channel, rssi = row["channel"][1], row["rssi"]
    said = [row["type"][0].text(row["type"][1] or 0)]
    said += [f"ch {channel}"] if channel is not None else []
    return " ".join([*said, rssi[0].text(rssi[1])] if rssi[1] is not None else said)


def _header(frame: FrameBatch) -> list[HeaderBits]:
    if frame.header is None:
        return []
    first, length = int(frame.header[0, 5]), int(frame.header[0, 6])
    row = first_row(FIELDS, frame.header)
    if row["tx_add"][1] is None:
        bits = [("LLID", 0, 2), ("NESN", 2, 1), ("SN", 3, 1), ("MD", 4, 1), ("CP", 5, 1), ("RFU", 6, 2)]
        meanings = {"LLID": TYPES[DATA + (first & 3)], "MD": ("no more", "more to come")[first >> 4 & 1]}
    else:
        bits = [("type", 0, 4), ("RFU", 4, 1), ("ChSel", 5, 1), ("TxAdd", 6, 1), ("RxAdd", 7, 1)]
        meanings = {"type": TYPES.get(row["type"][1] or 0, "")}
        meanings |= {name: ("public", "random")[first >> at & 1] for name, at in (("TxAdd", 6), ("RxAdd", 7))}
    shown = [HeaderBits(n, f"{first >> at & (1 << size) - 1:0{size}b}", meanings.get(n, "")) for n, at, size in bits]
    return [*shown, HeaderBits("length", f"{length:08b}", f"{length} bytes")]


_SAYS_DATA = {0, 2, 4, 6}
"""Advertising PDUs whose address is followed by data, and nothing else."""


def _called(form: int, payload: bytes) -> str:
    plain = form in (PUBLIC.number, RANDOM.number, PUBLIC_RESPONSE.number, RANDOM_RESPONSE.number)
    return ble_says.name_in(ble_says.data_of(payload, not plain)) if plain or form in _EXTENDED_FORMS else ""


def _parts(frame: FrameBatch) -> list[tuple[str, str]]:
    if frame.header is None:
        return []
    kind, payload = int(frame.header[0, 20]), frame.payload(0)
    if kind in (3, 5, AUXILIARY + 4, AUXILIARY + 5) and len(payload) >= 12:
        return [("to", write_address(int.from_bytes(payload[6:12], "little")))]
    if kind == 1 and len(payload) >= 12:
        return [("for", write_address(int.from_bytes(payload[6:12], "little")))]
    if kind in _SAYS_DATA:
        return ble_says.said(ble_says.data_of(payload, False))
    return ble_says.said(ble_says.data_of(payload, True)) if kind in (7, EXTENDED) or kind >= AUXILIARY else []


BLE = Medium(
    "ble",
    "BLE",
    "bit/s",
    (*PUBLIC_FORMS, *RANDOM_FORMS, ACCESS, CENTRAL, PERIPHERAL),
    kind=_kind,
    header=_header,
    faults={
        Fault.CRC: "the CRC that was sent does not fit what came",
        Fault.LENGTH: "the PDU is not as long as its header says",
        Fault.TRUNCATED: "the capture kept only the first bytes of the PDU",
    },
    fields=FIELDS,
    header_bytes=HEADER_BYTES,
    brief=_brief,
    called=_called,
    parts=_parts,
    ident_cells=17,
)
