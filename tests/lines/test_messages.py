"""Bytes of a serial line put together as messages."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.lines.code import Asked
from keel.lines.code_uart import read
from keel.lines.messages import Cut, chosen_cut, messages_of
from keel.lines.pulses import bit_time
from keel.lines.uart import Sent, Serial
from keel.model.frames import FrameBatch
from tests.lines.wires import uart, wave

HOW = Serial(9_600.0)
BYTE_NS = round(HOW.length * HOW.bit_ns)


def sent(data: bytes, silences: Sequence[float] = ()) -> Sent:
    """Bytes one after another; ``silences`` are byte times before each."""
    quiet = np.zeros(len(data))
    quiet[: len(silences)] = silences
    ends = np.cumsum(np.rint((quiet + 1) * BYTE_NS).astype(np.int64))
    return Sent(ends - BYTE_NS, ends, np.frombuffer(data, np.uint8).astype(np.uint16), np.zeros(len(data), np.uint8))


def payloads(batch: FrameBatch) -> list[bytes]:
    return [batch.payload(row) for row in range(len(batch))]


def framed(said: bytes) -> bytes:
    """A start byte, the length of what follows but one, the words, a checksum."""
    return bytes([0x02, len(said)]) + said + bytes([sum(said) & 0xFF])


SAID = st.lists(
    st.binary(min_size=1, max_size=30).map(lambda said: said.replace(b"\x02", b"\x03")), min_size=12, max_size=40
)


@given(SAID.filter(lambda said: len({len(one) for one in said}) > 1), st.integers(0, 20))
def test_a_byte_that_says_the_length_is_found(said: list[bytes], cut: int) -> None:
    messages = [framed(one) for one in said]
    # The recording may begin within a message.
    data = b"".join(messages)[min(cut, len(messages[0])) :]
    found = chosen_cut(sent(data), HOW)
    assert found == Cut(field=(1, 3)) and found.settings == {"length_field": "1+3"}
    got = payloads(messages_of(sent(b"".join(messages)), HOW, found))
    assert got == messages


def test_a_message_that_was_cut_ends_with_a_long_silence() -> None:
    data = framed(b"abcdef")[:4] + framed(b"gh") + framed(b"i")
    silences = [0.0] * 4 + [50.0]
    assert payloads(messages_of(sent(data, silences), HOW, Cut(field=(1, 3)))) == [
        framed(b"abcdef")[:4], framed(b"gh"), framed(b"i"),
    ]  # fmt: skip


def test_noise_and_what_is_always_alike_have_no_length() -> None:
    for data in (np.random.default_rng(1).bytes(4_000), bytes(500), b"\x55\xaa" * 300, bytes(range(256)) * 4):
        assert chosen_cut(sent(data), HOW).field is None


@given(st.binary(min_size=1, max_size=200), st.integers(0, 4), st.integers(0, 9))
def test_whatever_a_length_says_no_byte_is_lost(data: bytes, at: int, more: int) -> None:
    assert b"".join(payloads(messages_of(sent(data), HOW, Cut(field=(at, more))))) == data


def test_messages_that_are_too_long_are_cut_in_pieces() -> None:
    data = bytes(70_000)
    assert [len(one) for one in payloads(messages_of(sent(data), HOW, Cut(gap_ns=1 << 40)))] == [65_536, 4_464]


def test_a_length_is_said_by_hand() -> None:
    line = wave(uart(framed(b"abc") + framed(b"de"), 9_600))
    unit = bit_time(line)
    (best, *_) = read(line, unit, Asked(settings={"bits": "8", "parity": "none", "length_field": "1+3"}))
    assert payloads(best.frames) == [framed(b"abc"), framed(b"de")]
    for wrong in ("x", "1+x", "999+1", "-1+2", ""):
        with pytest.raises(InputError, match="length_field"):
            read(line, unit, Asked(settings={"bits": "8", "parity": "none", "length_field": wrong}))
