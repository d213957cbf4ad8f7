"""Exact bits on the wire, against a slow construction of the frame bit by bit."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.lines.can import CRC15_POLYNOMIAL, with_wire_bits
from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, LENGTH_TO_DLC, Flag, batch_of
from keel.model.identity import Form


def number(value: int, bits: int) -> list[int]:
    return [value >> i & 1 for i in range(bits - 1, -1, -1)]


def crc15(bits: list[int]) -> list[int]:
    """Source: ISO 11898-1:2015, 10.4.2.6, the shift register as it is described there."""
    register = 0
    for bit in bits:
        take = bit ^ (register >> 14 & 1)
        register = register << 1 & 0x7FFF
        if take:
            register ^= CRC15_POLYNOMIAL
    return number(register, 15)


def stuffed(bits: list[int], at_end: bool) -> list[int]:
    """Where each stuff bit is inserted; at the very end only if ``at_end``."""
    out: list[int] = []
    run, last, places = 0, None, []
    for i, bit in enumerate(bits):
        out.append(bit)
        run = run + 1 if bit == last else 1
        last = bit
        if run == 5 and (at_end or i < len(bits) - 1):
            out.append(1 - bit)
            places.append(i)
            last, run = 1 - bit, 1
    return places


def header(ident: int, extended: bool) -> list[int]:
    if extended:
        return [0, *number(ident >> 18, 11), 1, 1, *number(ident & 0x3FFFF, 18)]
    return [0, *number(ident, 11)]


def classic_bits(ident: int, extended: bool, payload: bytes, remote: bool, dlc: int) -> int:
    bits = header(ident, extended)
    bits += [int(remote), 0, 0, *number(dlc, 4)]
    for byte in payload:
        bits += number(byte, 8)
    bits += crc15(bits)
    # CRC delimiter, ACK, ACK delimiter, end of frame, intermission.
    return len(bits) + len(stuffed(bits, at_end=True)) + 1 + 1 + 1 + 7 + 3


def fd_bits(ident: int, extended: bool, payload: bytes, brs: bool, esi: bool) -> tuple[int, int]:
    slow = header(ident, extended) + ([0] if extended else [0, 0]) + [1, 0, int(brs)]
    bits = [*slow, int(esi), *number(int(LENGTH_TO_DLC[len(payload)]), 4)]
    for byte in payload.ljust(FD_LENGTHS[LENGTH_TO_DLC[len(payload)]], b"\0"):
        bits += number(byte, 8)
    places = stuffed(bits, at_end=False)
    size = FD_LENGTHS[LENGTH_TO_DLC[len(payload)]]
    crc = 17 if size <= 16 else 21
    # Fixed stuff bits: before the stuff count, and after every fourth bit of stuff count and CRC.
    field = 4 + crc + 1 + (4 + crc - 1) // 4
    tail = 1 + 1 + 7 + 3
    # A stuff bit that follows the BRS bit itself already runs fast.
    slow_stuffs = sum(place < len(slow) - 1 for place in places)
    fast = len(bits) - len(slow) + len(places) - slow_stuffs + field + 1
    if brs:
        return len(slow) + slow_stuffs + tail, fast
    return len(slow) + slow_stuffs + tail + fast, 0


def measured(
    ident: int, form: Form, payload: bytes, flags: int, faults: int = 0, dlc: int | None = None
) -> tuple[int, int]:
    code = int(LENGTH_TO_DLC[len(payload)]) if dlc is None else dlc
    batch = with_wire_bits(batch_of(0, ident, [payload], form=form, flags=flags, faults=faults, dlc=code))
    return int(batch.bits[0]), int(batch.fast_bits[0])


def test_the_reference_crc_has_its_published_check_value() -> None:
    # CRC-15/CAN of "123456789" is 059E in the published catalogue of CRC parameters.
    bits = [bit for byte in b"123456789" for bit in number(byte, 8)]
    assert crc15(bits) == number(0x059E, 15)


def test_a_frame_without_a_stuff_bit_has_its_bare_length() -> None:
    # 44 + 8n bits by the standard, and 3 of intermission; alternating bits cause no stuffing before the CRC.
    reference = classic_bits(0x555, False, b"", False, 0)
    assert measured(0x555, Form.BASE, b"", 0) == (reference, 0)
    assert 47 <= reference <= 47 + 33 // 4


def test_the_longest_classic_frame_stays_within_the_worst_case() -> None:
    # Worst case: a stuff bit for the first five and then for every four of the 98 stuffed bits.
    bits, _ = measured(0x000, Form.BASE, b"\0" * 8, 0)
    assert bits <= 44 + 64 + 3 + (34 + 64 - 1) // 4
    assert bits == classic_bits(0, False, b"\0" * 8, False, 8)


idents = st.tuples(st.booleans(), st.integers(0, 0x1FFFFFFF)).map(lambda t: (t[0], t[1] if t[0] else t[1] & 0x7FF))


@given(idents, st.binary(max_size=8))
def test_classic_frames(ident: tuple[bool, int], payload: bytes) -> None:
    extended, number_ = ident
    form = Form.EXTENDED if extended else Form.BASE
    assert measured(number_, form, payload, 0) == (classic_bits(number_, extended, payload, False, len(payload)), 0)


@given(idents, st.integers(0, 8))
def test_remote_frames_have_a_length_code_and_no_data(ident: tuple[bool, int], dlc: int) -> None:
    extended, number_ = ident
    form = Form.EXTENDED if extended else Form.BASE
    assert measured(number_, form, b"", int(Flag.REMOTE), dlc=dlc) == (
        classic_bits(number_, extended, b"", True, dlc),
        0,
    )


@given(
    idents,
    st.sampled_from(FD_LENGTHS).flatmap(lambda n: st.binary(min_size=n, max_size=n)),
    st.booleans(),
    st.booleans(),
)
def test_fd_frames(ident: tuple[bool, int], payload: bytes, brs: bool, esi: bool) -> None:
    extended, number_ = ident
    form = Form.EXTENDED if extended else Form.BASE
    flags = int(Flag.FD) | (int(Flag.BRS) if brs else 0) | (int(Flag.ESI) if esi else 0)
    assert measured(number_, form, payload, flags) == fd_bits(number_, extended, payload, brs, esi)


@given(st.sampled_from([0x00, 0xFF]), st.sampled_from(FD_LENGTHS), st.booleans())
def test_fd_frames_of_equal_bits_stuff_most(byte: int, size: int, brs: bool) -> None:
    flags = int(Flag.FD) | (int(Flag.BRS) if brs else 0)
    payload = bytes([byte]) * size
    assert measured(0x7FF, Form.BASE, payload, flags) == fd_bits(0x7FF, False, payload, brs, False)


@pytest.mark.parametrize("fault, instead", [(Fault.CRC, 10), (Fault.ACK, 11)])
def test_a_frame_that_failed_at_its_end_was_on_the_wire_nearly_whole(fault: Fault, instead: int) -> None:
    whole, _ = measured(0x1A0, Form.BASE, b"abcd", 0)
    assert measured(0x1A0, Form.BASE, b"abcd", int(Flag.ERROR), int(fault)) == (whole - instead + 17, 0)


def test_other_error_frames_count_as_the_shortest() -> None:
    assert measured(0, Form.NONE, b"\0" * 8, int(Flag.ERROR), int(Fault.FORM)) == (17, 0)
    assert measured(0x1A0, Form.BASE, b"ab", int(Flag.ERROR), int(Fault.STUFF)) == (17, 0)
