"""Waveforms: how fast they are read, measured, decoded and drawn; and what noise is taken for."""

from __future__ import annotations

import shutil
import subprocess
import time
from pathlib import Path

import numpy as np

from benchmarks.figures import Figure, best_of
from benchmarks.interface import Screen
from keel.bench.probe import probed_wires
from keel.bench.probes import PROBES
from keel.formats.waveforms import read_waveforms
from keel.lines.can_wave import CanRates, decode
from keel.lines.clocked import Wire
from keel.lines.code import Asked
from keel.lines.codes import guesses
from keel.lines.levels import levels_of, logic_of
from keel.lines.pulses import bit_time, idle_level
from keel.lines.sent_reader import TABLE
from keel.lines.together import CLOCKED, groups, read_together
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.importing import keep

RUNS = 5
EDGES, CHANGES, ROWS, SAMPLES, LONG = 10_000_000, 10_000_000, 20_000_000, 100_000_000, 500_000_000
BLOCK = 1_000_000
MINUTE_NS = 60_000_000_000


def reading(folder: Path) -> list[Figure]:
    """Files of waveforms, beside counting their lines."""
    dump, text = folder / "long.vcd", folder / "long.csv"
    random = np.random.default_rng(1)
    times = np.cumsum(random.integers(1, 6, CHANGES) * 2_000)
    with dump.open("w") as file:
        file.write("$timescale 1 ns $end\n$var wire 1 ! rx $end\n$enddefinitions $end\n#0\n1!\n")
        for at in range(0, CHANGES, BLOCK):
            part = times[at : at + BLOCK].tolist()
            file.write("".join(f"#{time}\n{n & 1}!\n" for n, time in enumerate(part)))
    with text.open("w") as file:
        file.write("time (s),probe (V)\n")
        for at in range(0, ROWS, BLOCK):
            volts = np.repeat(random.integers(0, 2, BLOCK // 20), 20) * 3.3 + random.normal(0, 0.03, BLOCK)
            file.write("".join(f"{(at + n) * 1e-7:.7f},{v:.4f}\n" for n, v in enumerate(volts.tolist())))
    found = []
    for path, what, asked in (
        (dump, f"a dump of {CHANGES // BLOCK} million changes", "under 10x"),
        (text, f"{ROWS // BLOCK} million samples as text", "under 20x"),
    ):
        took = best_of(RUNS, lambda path=path: read_waveforms(path))  # type: ignore[misc]
        beside = best_of(RUNS, lambda path=path: subprocess.check_output(["wc", "-l", str(path)]))  # type: ignore[misc]
        found.append(Figure(f"read {what}", f"{took:.2f} s", f"wc -l {beside * 1e3:.0f} ms", took / beside, asked))
        path.unlink()
    return found


def measuring() -> list[Figure]:
    """Levels, polarity and bit time of volts, beside one pass over them."""
    bits = np.random.default_rng(2).integers(0, 2, SAMPLES // 10).astype(np.float32)
    volts = np.repeat(bits * np.float32(3.3), 10)
    for at in range(0, SAMPLES, 10 * BLOCK):
        volts[at : at + 10 * BLOCK] += np.random.default_rng(at).normal(0, 0.05, 10 * BLOCK).astype(np.float32)
    wave = Analog(0, 100.0, volts)

    def measure() -> None:
        logic = logic_of(wave, levels_of(wave))
        unit = bit_time(logic)
        assert unit is not None and abs(unit.ns - 1_000) < 1 and idle_level(logic) in (0, 1)

    took = best_of(RUNS, measure)
    beside = best_of(RUNS, lambda: int((volts > 1.65).sum()))
    what = f"levels, polarity, bit time of {SAMPLES // BLOCK} million samples"
    return [Figure(what, f"{took * 1e3:.0f} ms", f"one NumPy pass {beside * 1e3:.0f} ms", took / beside, "under 4x")]


def decoding() -> list[Figure]:
    """CAN and serial lines from edges, with all given and with nothing given."""
    can, serial = _long(_bus(5.0)), _long(_text(2_000))
    given = Asked(9_600.0, settings={"bits": "8", "parity": "none", "stop": "1", "order": "lsb", "delimiter": "lf"})
    found = []
    for what, line, code, asked in (
        ("CAN FD", can, "canfd", Asked(500_000.0, 2_000_000.0)),
        ("a serial line", serial, "uart", given),
        ("SENT", _long(_sensor(1_000)), "sent", Asked(settings={"nibbles": "6", "checksum": "recommended"})),
    ):
        edges = len(line.edges)
        beside = best_of(RUNS, lambda line=line: int((np.diff(line.edges) > 1_500).sum()))  # type: ignore[misc]
        took = best_of(3, lambda line=line, asked=asked, code=code: guesses(line, asked, code))  # type: ignore[misc]
        alone = best_of(3, lambda line=line: guesses(line, Asked()))  # type: ignore[misc]
        rate = edges / took / 1e6
        figure = f"{rate:.1f} million edges/s"
        found += [
            Figure(
                f"decode {what}, all given", figure, f"one NumPy pass {beside * 1e3:.0f} ms", took / beside, "over 5"
            ),
            Figure(
                f"decode {what}, nothing given", f"{alone:.2f} s", f"all given {took:.2f} s", alone / took, "under 5x"
            ),
        ]
    return found


CLOCKED_LINES = (("trim-spi", "spi", "clock out in select select"), ("trim-i2c", "i2c", "clock data"),
                 ("card", "card", "clock command"))  # fmt: skip
WIRES_OF_NOISE = 400


def clocked() -> list[Figure]:
    """Lines of several wires from their edges; and what noise on two wires is taken for."""
    found = []
    for probe, code, roles in CLOCKED_LINES:
        short = [wire.line for wire in probed_wires(PROBES[probe], 2.0, 1)]
        times = -(-EDGES // sum(len(line.edges) for line in short))
        wires = [Wire(role, role, _again(line, times)) for role, line in zip(roles.split(), short, strict=True)]
        edges = sum(len(one.logic.edges) for one in wires)
        clock = wires[0].logic.edges
        beside = best_of(RUNS, lambda clock=clock: int((np.diff(clock) > 1_500).sum()))  # type: ignore[misc]
        took = best_of(3, lambda code=code, wires=wires: CLOCKED[code].read(wires, Asked()))  # type: ignore[misc]
        alone = best_of(3, lambda wires=wires, code=code: _found(wires, code))  # type: ignore[misc]
        figure = f"{edges / took / 1e6:.1f} million edges/s"
        found += [
            Figure(f"decode {CLOCKED[code].title}, wires given", figure, f"one NumPy pass {beside * 1e3:.0f} ms",
                   took / beside, ""),
            Figure(f"find its wires, and decode {CLOCKED[code].title}", f"{alone:.2f} s", f"wires given {took:.2f} s",
                   alone / took, ""),
        ]  # fmt: skip
    wrong = 0
    for seed in range(WIRES_OF_NOISE):
        random = np.random.default_rng(seed)
        lines = [np.unique(random.integers(0, 10**8, 5_000)) for _ in range(2)]
        wrong += len(groups([Wire(str(n), "", Logic(0, 10**8, 1, one)) for n, one in enumerate(lines)], Asked()))
    what = f"{WIRES_OF_NOISE} pairs of wires with edges at any time"
    return [*found, Figure(what, f"{wrong} taken for a clocked line", "", None, "none")]


def _found(wires: list[Wire], code: str) -> None:
    ((best, group),) = groups([Wire(f"{n}", "", one.logic) for n, one in enumerate(wires)], Asked())
    assert best.word == code and read_together(best, group, Asked())


def _again(line: Logic, times: int) -> Logic:
    """The same so many times."""
    length = line.end - line.start
    edges = (line.edges[None, :] - line.start + (np.arange(times) * length)[:, None]).ravel()
    return Logic(0, times * length, line.first, edges)


def _bus(seconds: float) -> Logic:
    wire = probed_wires(PROBES["bus-a"], seconds, 1)[0]
    return wire.line


def _text(lines: int) -> Logic:
    """Text at 9,600 bit/s."""
    bit, at, level = 1e9 / 9_600, 1e6, 1
    edges = []
    for number in range(lines):
        for byte in f"$SDDBT,{number % 97 / 7:.2f},f\r\n".encode():
            for now in (0, *((byte >> k) & 1 for k in range(8)), 1):
                if now != level:
                    edges.append(round(at))
                    level = now
                at += bit
        at += 30 * bit
    return Logic(0, round(at), 1, np.array(edges, np.int64))


def _sensor(messages: int) -> Logic:
    """A sensor that says six nibbles again and again, at 3 µs a tick."""
    random = np.random.default_rng(4)
    falls = [100_000]
    for _ in range(messages):
        nibbles = random.integers(0, 16, 7).tolist()
        check = 5
        for nibble in [*nibbles[1:], 0]:
            check = nibble ^ int(TABLE[check])
        falls += [falls[-1] + 3_000 * ticks for ticks in np.cumsum([56, *(12 + n for n in (*nibbles, check))]).tolist()]
    edges = np.sort(np.concatenate([falls, np.array(falls) + 15_000]))
    return Logic(0, int(edges[-1]), 1, edges)


def _long(line: Logic) -> Logic:
    """The same over and over, until there are so many edges."""
    length = line.end - line.start
    times = -(-EDGES // len(line.edges))
    edges = (line.edges[None, :] - line.start + (np.arange(times) * length)[:, None]).ravel()[:EDGES]
    return Logic(0, int(edges[-1]) + 100_000_000, line.first, edges)


def zooming(folder: Path) -> list[Figure]:
    """A waveform of 500 million samples: from the command to its picture, and each zoom."""
    path = folder / "long.keel"
    line = _bus(2.0)
    step = 4.0
    edges = ((line.edges - line.start) / step).astype(np.int64)
    samples = np.empty(LONG, np.int16)
    random = np.random.default_rng(3)
    noise = random.normal(0, 200, BLOCK).astype(np.int16)
    for at in range(0, LONG, BLOCK):
        low, high = np.searchsorted(edges, [at, at + BLOCK], side="right")
        turns = np.zeros(BLOCK + 1, np.int32)
        np.add.at(turns, edges[low:high] - at, 1)
        samples[at : at + BLOCK] = ((line.first ^ low & 1) ^ (np.cumsum(turns[:BLOCK]) & 1)) * 16_000 - 8_000 + noise
    keep([Channel("wire", 1, Analog(0, step, samples, 1 / 8_000))], path, "made up")
    del samples
    screen = Screen("open", str(path))
    screen.until(b"1 Watch")
    time.sleep(2)
    opened = screen.press(b"7", b"2000 ms in")
    time.sleep(1)
    took = [screen.press(b"+", words) for words in (b"1000 ms in", b"500.0 ms in", b"250.0 ms in", b"125.00 ms in")]
    took += [screen.press(b"-", words) for words in (b"250.0 ms in", b"500.0 ms in", b"1000 ms in")]
    screen.close()
    shutil.rmtree(path)
    took.sort()
    what = f"a zoom in {LONG // BLOCK} million samples"
    middle, late = took[len(took) // 2], took[-1]
    frame = "one repaint at 60 Hz 17 ms"
    return [
        Figure("Line of the same, from its key", f"{opened * 1e3:.0f} ms", frame, opened / 0.017, ""),
        Figure(what, f"{middle * 1e3:.0f} ms, worst {late * 1e3:.0f} ms", frame, middle / 0.017, "under 50 ms"),
    ]


def noise(minutes: int) -> list[Figure]:
    """What codes with a check take noise for: bits by chance at the right rate, and edges at any time."""
    good = {"bits by chance": 0, "edges at any time": 0}
    begin = time.perf_counter()
    for minute in range(minutes):
        random = np.random.default_rng(minute)
        bits = random.integers(0, 2, MINUTE_NS // 2_000).astype(np.int8)
        by_chance = (np.flatnonzero(np.diff(bits)) + 1) * 2_000
        anywhere = np.cumsum(np.maximum(random.exponential(4_000, MINUTE_NS // 4_000), 1).astype(np.int64))
        anywhere = anywhere[anywhere < MINUTE_NS]
        for what, edges in (("bits by chance", by_chance), ("edges at any time", anywhere)):
            good[what] += int(decode(Logic(0, MINUTE_NS, 1, edges), CanRates(500_000, 2_000_000)).good.sum())
    took = time.perf_counter() - begin
    what = f"{minutes} minutes of noise read as CAN FD at 500 kbit/s"
    return [
        Figure(f"{what}: {kind}", f"{count} good frames", f"{took:.0f} s for both", None, "none")
        for kind, count in good.items()
    ]
