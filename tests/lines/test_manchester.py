"""Manchester code read from levels: with sync and stop as on an auxiliary channel, and as bare bits.

Source: IEEE 802.3-2018, 7.3.1.1: a 1 is low and then high, a 0 high and then low.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.lines.code import Asked, Guess, How
from keel.lines.codes import guesses, is_told
from keel.lines.manchester import explain, read
from keel.lines.pulses import bit_time
from keel.model.faults import fault_words
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.waves import vcd
from tests.lines.wires import Level, shaken, wave

HALF = 500.0


def coded(bits: Sequence[int], one_rises: bool = True, half: float = HALF) -> list[Level]:
    return [(level, half) for bit in bits for level in ((0, 1) if (bit == 1) == one_rises else (1, 0))]


def bits_of(data: bytes) -> list[int]:
    return [byte >> k & 1 for byte in data for k in range(7, -1, -1)]


def burst(data: bytes, one_rises: bool = True, more: Sequence[int] = (), sync: bool = True) -> list[Level]:
    """At least ten bits of 0, two bit times high and two low, bytes, and the same again."""
    mark: list[Level] = [(1, 4 * HALF), (0, 4 * HALF)]
    levels = coded([0] * 16, one_rises) + (mark if sync else [])
    return [*levels, *coded([*bits_of(data), *more], one_rises), *mark, (0, 60_000.0)]


SAID = [
    b"\x90\x00\x00\x0f", b"\x00\x12\x34\x56\x78\x9a\xbc\xde\xf0", b"\x80\x01\x00\x00\x77", b"\xff\x00\xff", b"\x55\xaa",
]  # fmt: skip


def lines_of(line: Logic, **settings: str) -> Guess:
    (found,) = read(line, bit_time(line), Asked(settings=settings))
    return found


def payloads(found: Guess) -> list[bytes]:
    return [found.frames.payload(n) for n in range(len(found.frames))]


@pytest.mark.parametrize("one_rises", [True, False])
@pytest.mark.parametrize("jitter", [0.0, 12.0])
def test_bytes_between_sync_and_stop_are_read_in_either_convention(one_rises: bool, jitter: float) -> None:
    levels: list[Level] = [(0, 50_000.0)]
    for data in SAID * 3:
        levels += burst(data, one_rises)
    line = shaken(wave(levels), jitter)
    found = lines_of(line)
    assert payloads(found) == SAID * 3 and not found.faulty and found.rate == pytest.approx(1_000_000, rel=1e-3)
    assert found.settings["sync"] == "yes" and found.explained > 0.95
    frames = found.frames
    assert frames.duration is not None
    if not jitter:
        # Ahead, sync, four bytes, stop.
        whole = (16 + 4 + 32 + 4) * 2 * HALF
        assert abs(int(frames.duration[0]) - whole) <= HALF + 1


def test_a_message_is_taken_apart() -> None:
    line = wave([(0, 50_000.0), *(level for data in SAID for level in burst(data))])
    found = lines_of(line)
    assert found.frames.duration is not None
    time = int(found.frames.time[0])
    fields = explain(line, How(found.how, found.settings), time, time + int(found.frames.duration[0]))
    assert [field.name for field in fields] == ["ahead", "sync", "byte", "byte", "byte", "byte", "stop"]
    assert b"".join(field.raw for field in fields) == SAID[0]
    assert all(a.end == b.start for a, b in zip(fields[:-1], fields[1:], strict=True))


def test_what_is_wrong_is_told() -> None:
    levels: list[Level] = [(0, 50_000.0)]
    for data in SAID:
        levels += burst(data)
    levels += burst(b"\x12\x34", more=(1, 0, 1)) + burst(b"\x12\x34", sync=False) + burst(b"\x56")
    found = lines_of(wave(levels))
    faults = [fault_words(int(fault)) for fault in found.frames.faults]
    assert faults == [[]] * 5 + [["length"], ["sync"], []] and payloads(found)[5] == b"\x12\x34"


@pytest.mark.parametrize("mode", ["ieee", "inverse"])
def test_an_unknown_line_is_its_bits(mode: str) -> None:
    said = [[1, 0, 1, 1, 0, 0, 1, 0, 1, 1, 1, 0], [0, 1, 1, 0, 1, 0, 0, 0, 1, 1, 0, 1]] * 4
    levels: list[Level] = [(1, 40_000.0)]
    for bits in said:
        levels += [*coded(bits, mode == "ieee", 10_000.0), (1, 400_000.0)]
    line = wave(levels)
    found = lines_of(line, mode=mode)
    assert (
        found.settings == {"sync": "no", "mode": mode}
        and found.rate == pytest.approx(50_000, rel=1e-3)
        and not found.check
    )
    text = ["".join(f"{byte:08b}" for byte in data)[:12] for data in payloads(found)]
    assert text == ["".join(map(str, bits)) for bits in said]
    with pytest.raises(InputError, match="ieee or inverse"):
        lines_of(line, mode="odd")


def test_it_is_found_by_itself_and_others_are_not_it() -> None:
    line = wave([(0, 50_000.0), *(level for data in SAID * 3 for level in burst(data))])
    found = guesses(line, Asked())
    assert is_told(found) and found[0].code == "manchester"
    for seed in range(3):
        edges = np.cumsum(np.random.default_rng(seed).exponential(900, 20_000).astype(np.int64) + 1)
        noise = Logic(0, int(edges[-1]) + 1, 1, edges)
        assert not read(noise, bit_time(noise), Asked())


def test_commands_give_the_bytes(tmp_path: Path) -> None:
    line = wave([(0, 50_000.0), *(level for data in SAID for level in burst(data))])
    (tmp_path / "x.vcd").write_bytes(vcd(aux=line))
    assert keel("decode", tmp_path / "x.vcd", "-o", tmp_path / "x.keel", "--as", "manchester").returncode == 0
    rows = [json.loads(row) for row in keel("frames", tmp_path / "x.keel", "--json", "--fields").stdout.splitlines()]
    assert [(row["id"], row["payload"], row["raw"]) for row in rows] == [
        ("0", data.hex().upper(), data.hex().upper()) for data in SAID
    ]


@given(st.lists(st.integers(1, 9), max_size=150), st.booleans())
def test_any_levels_are_read_without_crash(lengths: list[int], high: bool) -> None:
    edges = np.cumsum(np.array([0, *lengths], np.int64) * 250)
    line = Logic(0, int(edges[-1]) + 10**6, int(high), edges[1:])
    for asked in (Asked(), Asked(1_000_000.0)):
        for found in read(line, bit_time(line), asked):
            frames = found.frames
            assert frames.duration is not None and (frames.duration > 0).all()
            for time, took in zip(frames.time.tolist(), frames.duration.tolist(), strict=True):
                assert explain(line, How(found.how, found.settings), time, time + took) is not None
