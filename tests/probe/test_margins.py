"""Margins against cases worked out by hand: bits, edges, levels, rise and fall, ringing, setup and hold."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pytest

from keel.lines.code import Asked
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import decode_channels
from keel.probe.margins import MOST_FRAMES, WORST, Margin, margins_of
from keel.probe.shapes import shapes_of
from keel.probe.stored import record
from keel.store.recording import Recording
from tests.command import keel
from tests.lines.chips import i2c, spi
from tests.lines.test_spi import talk
from tests.lines.waves import volts
from tests.lines.wires import CanFrame, can, uart, wave

RATE, BIT = 9_600.0, 1e9 / 9_600
Floats = npt.NDArray[np.float64]


def recording(folder: Path, wanted: Wanted = Wanted(), **waves: Logic | Analog) -> Path:  # noqa: B008
    channels = [probed(Channel(name, n, one)) for n, (name, one) in enumerate(waves.items(), 1)]
    record(decode_channels(channels, [wanted], Asked()), folder, "a test")
    return folder


def rows_of(folder: Path) -> tuple[dict[str, Margin], tuple[str, ...]]:
    snapshot = Recording(folder).snapshot()
    found = margins_of(snapshot, snapshot.rows(0, snapshot.frames))
    return {row.what: row for row in found.rows}, found.said


def late_by(bits: float) -> Logic:
    """Bytes of 55, of which one edge comes late: that which ends bit 2 of the fifth byte."""
    line = wave(uart(b"\x55" * 12, RATE, pauses=[40.0, 0.0] * 6))
    edges = line.edges.copy()
    edges[4 * 10 + 3] += round(bits * BIT)
    return Logic(line.start, line.end, line.first, edges)


def test_an_edge_that_is_late_by_a_fifth_of_a_bit_leaves_three_fifths(tmp_path: Path) -> None:
    rows, said = rows_of(recording(tmp_path / "r.keel", Wanted("uart"), tx=late_by(0.2)))
    worst = rows["sample point"]
    # Bits are taken in their middle: half a bit is all there is.
    assert worst.margin == pytest.approx(1 - 0.2 / 0.5, abs=0.01) and worst.least == pytest.approx(60, abs=1)
    assert worst.at == pytest.approx(late_by(0.2).edges[43], abs=1)
    width = rows["bit width, byte"]
    assert width.most == pytest.approx(1.2 * BIT, rel=1e-3) and width.least == pytest.approx(0.8 * BIT, rel=1e-3)
    assert width.nominal == pytest.approx(BIT, rel=1e-3)
    assert rows["jitter"].most == pytest.approx(0.2 * BIT, rel=0.01)
    assert said == ("tx: recorded as levels: there are no volts to measure",)


def test_of_can_an_early_edge_has_a_fifth_of_a_bit_and_a_late_one_four(tmp_path: Path) -> None:
    levels, spans = can([CanFrame(0x123, b"\xaa\x55")] * 3, 500_000)
    line = wave(levels)
    first = int(np.searchsorted(line.edges, spans[1][0]))
    for late, expected in ((0.1, 1 - 0.1 / 0.8), (-0.1, 1 - 0.1 / 0.2)):
        edges = line.edges.copy()
        # A rising edge: none by which clocks are set.
        edges[first + 1] += round(late * 2_000)
        rows, _ = rows_of(recording(tmp_path / f"r{late}.keel", wire=Logic(line.start, line.end, line.first, edges)))
        assert rows["sample point"].margin == pytest.approx(expected, abs=0.01)
        assert rows["sample point"].at == edges[first + 1]
        assert {"bit width, id", "bit width, data", "bit width, crc"} <= set(rows)


def test_levels_rise_and_fall_are_those_of_a_resistor_and_a_capacitor(tmp_path: Path) -> None:
    line = wave(uart(b"\x55\x0f\x33" * 8, RATE, pauses=[3.0] * 24))
    samples = volts(line, 500.0, 0.2, 3.1, 4_000.0, 0.005)
    rows, _ = rows_of(recording(tmp_path / "r.keel", tx=Analog(0, 500.0, samples.astype(np.float32))))
    assert rows["level high"].mean == pytest.approx(3.1, abs=0.01)
    assert rows["level low"].mean == pytest.approx(0.2, abs=0.01)
    for what in ("rise time", "fall time"):
        # From a tenth to nine tenths of an exponential: ln 9 time constants.
        assert rows[what].mean == pytest.approx(np.log(9) * 4_000, rel=0.05)
        assert rows[what].margin == pytest.approx(1 - rows[what].most / BIT, abs=0.02)
    assert rows["level high"].margin is not None and rows["level high"].margin > 0.97
    assert rows["overshoot high"].most < 2 and rows["ringing high"].most < 2


def ringing(line: Logic, step: float, size: float) -> Floats:
    """Levels from 0 to 1 that swing beyond and come back, by so much."""
    times = np.arange(line.start, line.end, step)
    place = np.searchsorted(line.edges, times, side="right")
    level = (line.first + place) & 1
    since = times - np.where(place > 0, line.edges[np.maximum(place - 1, 0)], -1e12)
    swing = np.where(place > 0, size * np.exp(-since / 6_000) * -np.cos(2 * np.pi * since / 8_000), 0.0)
    found: Floats = level.astype(np.float64) + np.where(level == 1, swing, -swing)
    return found


def test_ringing_says_how_far_it_is_from_a_false_edge(tmp_path: Path) -> None:
    line = wave(uart(b"\x55\x0f\x33" * 8, RATE, pauses=[3.0] * 24))
    samples = ringing(line, 100.0, 0.4)
    edges = line.edges[:50]
    shapes = shapes_of(Analog(0, 100.0, samples), line, np.arange(50), 0.0, 1.0)
    # The first swing beyond it comes half a period later, the way back a whole one.
    assert shapes.beyond.max() == pytest.approx(0.4 * np.exp(-4_000 / 6_000), abs=0.02)
    assert shapes.back.max() == pytest.approx(0.4 * np.exp(-8_000 / 6_000), abs=0.02)
    assert (shapes.times == edges).all() and shapes.rises.tolist() == [k % 2 == 1 for k in range(50)]
    rows, _ = rows_of(recording(tmp_path / "r.keel", tx=Analog(0, 100.0, samples.astype(np.float32))))
    assert rows["ringing high"].margin == pytest.approx(1 - rows["ringing high"].most / 50, abs=0.02)
    assert 15 < rows["overshoot high"].most < 25


def test_of_clocked_lines_setup_and_hold_are_measured(tmp_path: Path) -> None:
    rows, _ = rows_of(recording(tmp_path / "s.keel", Wanted(), **spi(talk(), 1e6)))
    # Data of mode 0 changes 0.43 and 0.35 periods before the clock rises.
    assert rows["setup, mosi"].least == rows["setup, mosi"].most == 430
    assert rows["setup, miso"].least == 350 and rows["setup, miso"].nominal == 500
    assert rows["setup, miso"].margin == pytest.approx(0.7) and rows["hold, mosi"].least == 570
    assert rows["clock period"].mean == 1_000 and rows["clock period"].margin is None
    rows, said = rows_of(
        recording(tmp_path / "i.keel", Wanted(), **i2c([[(0xA0, 0), (0x12, 0)], [(0x44, 1)]] * 10, 100e3))
    )
    assert rows["setup, sda"].least == 4_000
    # An address that nobody answers to spoils nothing: such transfers are measured, too.
    assert not any("left out" in one for one in said)


def test_of_many_frames_some_are_measured_and_the_worst_among_them(tmp_path: Path) -> None:
    line = wave(uart(bytes(range(256)) * 14, RATE, pauses=[40.0, 0.0] * 1_792))
    edges = line.edges.copy()
    # Where none of those lies that are picked evenly.
    place = int(np.searchsorted(edges, line.end * 0.61803))
    # The second edge of a byte: the first one sets the clock.
    place += int(np.argmax(np.diff(edges[place:]) > 10 * BIT)) + 2
    edges[place] += round(0.3 * BIT)
    rows, said = rows_of(recording(tmp_path / "r.keel", tx=Logic(line.start, line.end, line.first, edges)))
    assert rows["sample point"].at == edges[place]
    snapshot = Recording(tmp_path / "r.keel").snapshot()
    assert snapshot.frames > MOST_FRAMES + WORST and "were measured, evenly and the worst" in said[0]


def lines_in(text: str) -> Iterator[list[str]]:
    return (line.split(",") for line in text.splitlines())


def test_the_command_says_the_nearest_to_failure_first(tmp_path: Path) -> None:
    folder = recording(tmp_path / "r.keel", Wanted("uart"), tx=late_by(0.2))
    rows = json.loads(keel("margins", folder, "--json").stdout)
    assert list(rows[0]) == ["bus", "what", "unit", "min", "mean", "max", "nominal", "margin", "at", "limited"]
    known = [row["margin"] for row in rows if row["margin"] is not None]
    assert known == sorted(known) and known[0] == pytest.approx(0.6, abs=0.01)
    table = keel("margins", folder).stdout
    assert "sample point" in table and "60%" in table
    assert next(lines_in(keel("margins", folder, "--csv").stdout))[:3] == ["bus", "what", "unit"]
    # An ask leaves the bytes before it.
    calm = json.loads(keel("margins", folder, "--json", "--ask", "at:..14ms").stdout)
    assert min(row["margin"] for row in calm if row["margin"] is not None) > 0.99
    assert "goes with" in keel("frames", folder, "--fields").stderr
    keel("bench", "--seconds", "1", "--lines", "can", "--out", tmp_path / "c.keel")
    none = keel("margins", tmp_path / "c.keel")
    assert none.returncode != 0 and "no line was read from a waveform" in none.stderr


def test_frames_with_a_fault_are_measured_and_said_to_be(tmp_path: Path) -> None:
    frames = [CanFrame(0x123, b"\xaa\x55", spoil_crc=4 if n == 2 else 0) for n in range(5)]
    rows, said = rows_of(recording(tmp_path / "r.keel", wire=wave(can(frames, 500_000)[0])))
    assert "wire: 1 frames with a fault are measured, too" in said
    assert rows["sample point"].margin is not None


def test_dominant_and_recessive_bits_are_told_apart(tmp_path: Path) -> None:
    """Each recessive bit that follows a dominant one is shorter by 200 ns, and the dominant one longer."""
    line = wave(can([CanFrame(0x123, b"\xaa\x55")] * 4, 500_000)[0])
    edges = line.edges.copy()
    rises = (np.arange(len(edges)) + line.first) % 2 == 0
    edges[rises] += 200
    rows, _ = rows_of(recording(tmp_path / "r.keel", wire=Logic(line.start, line.end, line.first, edges)))
    dominant, recessive = rows["bits, dominant"], rows["bits, recessive"]
    assert dominant.most == pytest.approx(110, abs=0.5) and recessive.least == pytest.approx(90, abs=0.5)
    assert dominant.mean > 102 and recessive.mean < 98


def test_what_the_samples_make_of_it_is_marked(tmp_path: Path) -> None:
    line = wave(uart(b"\x55\x0f\x33" * 8, RATE, pauses=[3.0] * 24))
    for step, over, expected in ((BIT / 12, 2, True), (BIT / 200, 20, False)):
        times = np.arange(line.start, line.end, step)
        levels = line.first ^ (np.searchsorted(line.edges, times, side="right") & 1)
        # Edges that take so many samples.
        smooth = np.convolve(levels, np.ones(over) / over, "same")
        tx = Analog(0, step, (3.3 * smooth).astype(np.float32))
        rows, _ = rows_of(recording(tmp_path / f"r{expected}.keel", tx=tx))
        assert rows["rise time"].limited is expected
