"""Serial lines read from levels, as they are driven by the book."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.lines.pulses import bit_time, busy, explained, glitch_free, idle_level, nearest_rate
from keel.lines.serial_clock import SerialClock
from keel.lines.uart import BREAK, FRAMING, PARITY, Parity, Reading, Serial, decode
from keel.lines.uart import readings as readings_by
from keel.model.waveform import Logic
from tests.lines.wires import shaken, skewed, uart, wave

TEXT = b"$SDDPT,6.5,0.4,*7C\r\n$SDDPT,6.7,0.4,*7E\r\n"


@given(
    st.binary(min_size=1, max_size=60),
    st.sampled_from([5, 6, 7, 8]),
    st.sampled_from(["none", "odd", "even", "mark", "space"]),
    st.sampled_from([1.0, 1.5, 2.0]),
    st.booleans(),
    st.floats(-0.02, 0.02),
)
def test_what_is_sent_is_read(data: bytes, bits: int, parity: Parity, stop: float, msb: bool, off: float) -> None:
    data = bytes(byte & (1 << bits) - 1 for byte in data)
    line = wave(uart(data, 9600 * (1 + off), bits, parity, stop, msb))
    sent = decode(line, Serial(9600, bits, parity, stop, "msb" if msb else "lsb"))
    assert sent.values.tolist() == list(data) and sent.good.all()
    assert (np.diff(sent.starts) > 0).all()


def readings(line: Logic, rate: float) -> list[Reading]:
    """As its clock is known exactly."""
    return readings_by(line, SerialClock(1e9 / rate, 0.01, 1.0, 5))


def test_when_bytes_began_and_ended() -> None:
    sent = decode(wave(uart(b"ab", 10_000)), Serial(10_000))
    assert sent.starts.tolist() == [2_000_000, 3_000_000] and sent.ends.tolist() == [3_000_000, 4_000_000]


def test_wrong_parity_wrong_stop_bits_and_breaks_are_told() -> None:
    bit = 1e9 / 9600
    odd = decode(wave(uart(TEXT, 9600, 8, "odd")), Serial(9600, 8, "even"))
    assert (odd.faults == PARITY).all()
    levels = uart(b"\x55", 9600)
    levels[10] = (0, bit)
    cut = decode(wave(levels), Serial(9600))
    assert cut.faults.tolist() == [FRAMING]
    broken = decode(wave([(1, 20 * bit), (0, 30 * bit), (1, 20 * bit), *uart(b"ok", 9600)]), Serial(9600))
    assert broken.faults.tolist() == [BREAK, 0, 0] and broken.values.tolist()[1:] == list(b"ok")
    assert int(broken.ends[0] - broken.starts[0]) == round(30 * bit)


def test_nine_bits_are_one_value() -> None:
    bit = 1e9 / 9600
    word = [(0, bit), *((0x1A5 >> k & 1, bit) for k in range(9)), (1, bit)]
    assert decode(wave([(1, 20 * bit), *word, (1, 20 * bit)]), Serial(9600, 9)).values.tolist() == [0x1A5]


def test_a_recording_that_begins_within_a_byte_gives_only_right_ones() -> None:
    line = wave(uart(TEXT * 3, 9600, pauses=[0] * 25 + [30] + [0] * 100))
    for begin in range(3_000_000, 20_000_000, 700_000):
        sent = decode(line.part(begin, line.end), Serial(9600))
        assert sent.good.all() and (TEXT * 3).endswith(bytes(sent.values.tolist()[-40:]))


@pytest.mark.parametrize("rate", [1200, 9600, 19_200, 115_200, 10_400, 250_000])
@pytest.mark.parametrize("jitter", [0.0, 0.02])
@pytest.mark.parametrize("late", [0.0, 0.15])
def test_the_bit_time_is_measured_whatever_the_edges_do(rate: int, jitter: float, late: float) -> None:
    bit = 1e9 / rate
    line = skewed(shaken(wave(uart(TEXT * 8, rate * 1.01)), jitter * bit), int(late * bit))
    found = bit_time(line)
    assert found is not None and found.rate == pytest.approx(rate * 1.01, rel=0.004)
    assert found.nearest_rate == rate and idle_level(line) == 1 and found.fits > 0.95
    assert idle_level(line.inverted) == 0


def test_rates_that_are_near_none_have_no_name() -> None:
    assert nearest_rate(9_700) == 9_600 and nearest_rate(10_050) == 10_000 and nearest_rate(7_000) is None


def test_glitches_are_taken_out() -> None:
    line = wave([(1, 1000), (0, 20), (1, 500), (0, 1000), (1, 15), (0, 10), (1, 12), (0, 900), (1, 1000)])
    assert glitch_free(line, 100).edges.tolist() == [1520, 3457 - 0]


def test_seven_bits_with_parity_are_told_from_eight() -> None:
    for parity in ("even", "odd"):
        best = readings(wave(uart(TEXT * 3, 9600, 7, parity)), 9600)[0]
        assert (best.how.bits, best.how.parity, best.faulty) == (7, parity, 0.0)
    chance = np.random.default_rng(1).integers(0, 256, 200, dtype=np.uint8).tobytes()
    for parity in ("even", "odd"):
        best = readings(wave(uart(chance, 9600, 8, parity)), 9600)[0]
        assert (best.how.bits, best.how.parity) == (8, parity)
    assert readings(wave(uart(chance, 9600)), 9600)[0].how.words == "8N1"
    assert readings(wave(uart(chance, 9600, stop=2)), 9600)[0].how.words == "8N2"


def test_what_good_bytes_explain_of_the_active_time() -> None:
    line = wave(uart(TEXT, 9600))
    sent = decode(line, Serial(9600))
    assert explained(line, sent.starts, sent.ends, 2e6) == pytest.approx(1.0, abs=0.03)
    assert explained(line, sent.starts[:20], sent.ends[:20], 2e6) == pytest.approx(0.5, abs=0.03)
    assert explained(line, sent.starts[:0], sent.ends[:0], 2e6) == 0.0
    begins, ends = busy(line, 2e6)
    assert len(begins) == len(ends) == 1


@given(st.lists(st.integers(1, 5_000_000), max_size=300), st.booleans())
def test_any_levels_are_read_without_crash(lengths: list[int], high: bool) -> None:
    edges = np.cumsum(np.array([0, *lengths], np.int64))[1:]
    line = Logic(0, int(edges[-1]) + 10 if len(edges) else 1, int(high), edges)
    sent = decode(line, Serial(9600, 8, "even"))
    assert (np.diff(sent.starts) > 0).all()
    bit_time(line)
    assert idle_level(line) in (0, 1)


def test_a_burst_of_spikes_is_taken_out_at_once() -> None:
    burst = 10_000 + np.arange(20_000) * 3
    line = Logic(0, 200_000, 1, np.concatenate([[1_000, 5_000], burst, [150_000, 160_000]]))
    assert glitch_free(line, 100).edges.tolist() == [1_000, 5_000, 150_000, 160_000]
