"""A probe on a line aboard: bus A at its connector, both wires; the depth sounder, both directions; the rudder's
sensor."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from keel.bench.ferry import Ferry
from keel.bench.messages import full_dictionary
from keel.bench.sensor import sensor_line
from keel.bench.wires import can_line, serial_line, volts
from keel.errors import InputError, RecordingError
from keel.media.serial import HOST
from keel.model.frames import FrameBatch, concat
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.importing import READ, WHOLE, keep

STRETCH_S, LONGEST_S = 1.0, 120.0
OFF = 1.001
"""The clock aboard is a little fast, as clocks are."""
Progress = Callable[[float], None]


@dataclass(frozen=True)
class Wire:
    """A channel of a probe: its name, its line, and what it has in volts.

    Attributes:
        low, high: Volts where the line is low and where it is high.
        inverted: Whether the wire's logic is the line's, exchanged.
    """

    name: str
    line: Logic
    low: float
    high: float
    inverted: bool = False


@dataclass(frozen=True)
class Probe:
    """What can be probed.

    Attributes:
        word: As commands have it.
        title: In words.
        step_ns: How often an instrument samples it.
        rise_ns, noise: How slow its edges are, and how much noise is on it, in volts.
    """

    word: str
    title: str
    step_ns: float
    rise_ns: float
    noise: float
    wires: Callable[[FrameBatch, int, int, int], list[Wire]]


def _bus_a(batch: FrameBatch, start: int, end: int, seed: int) -> list[Wire]:
    line = can_line(batch.take(np.flatnonzero(batch.bus == 0)), 500_000 * OFF, 2_000_000 * OFF, start, end, seed)
    return [Wire("CANH", line, 3.5, 2.5, True), Wire("CANL", line, 1.5, 2.5)]


def _depth(batch: FrameBatch, start: int, end: int, seed: int) -> list[Wire]:
    rows = np.flatnonzero(batch.bus == 4)
    is_host = batch.form[rows] == HOST.number
    lines = []
    for which in (True, False):
        said = [(int(batch.time[row]), batch.payload(row)) for row in rows[is_host == which].tolist()]
        lines.append(serial_line(said, 4_800 * OFF, start, end, seed + which))
    # The volts of RS-232 are the other way round.
    return [Wire("host", lines[0], 9.0, -9.0), Wire("device", lines[1], 8.5, -8.5)]


def _rudder(batch: FrameBatch, start: int, end: int, seed: int) -> list[Wire]:
    message = next(one for one in full_dictionary().messages if one.name == "SteeringAngle")
    rows = np.flatnonzero((batch.bus == 0) & (batch.ident == message.ident))
    # Hundredths of a degree on the bus; the sensor has 12 bits: a twentieth each, the middle ahead.
    angles = [int.from_bytes(batch.payload(row)[:2], "big", signed=True) // 5 + 2_048 for row in rows.tolist()]
    times = batch.time[rows] if len(rows) else np.array([start], np.int64)
    values = np.clip(np.array(angles or [2_048], np.int64), 0, 4_095)
    return [Wire("rudder", sensor_line(times, values, start, end, seed), 0.1, 4.9)]


PROBES = {
    probe.word: probe
    for probe in (
        Probe("bus-a", "bus A at the connector, both wires", 200.0, 60.0, 0.02, _bus_a),
        Probe("depth", "the depth sounder, both directions", 10_000.0, 4_000.0, 0.15, _depth),
        Probe("rudder", "the rudder's sensor", 500.0, 900.0, 0.05, _rudder),
    )
}


def probed_wires(
    probe: Probe,
    seconds: float,
    seed: int,
    events: Sequence[tuple[float, str, str]] = (),
    progress: Progress = lambda _: None,
) -> list[Wire]:
    """Sail for some seconds with a probe on a line.

    Args:
        probe: What is probed.
        seconds: How long, in the ferry's time.
        seed: The voyage.
        events: (time in s, control, value): what is worked when.
        progress: Told the time sailed.
    """
    ferry = Ferry(seed, with_others=True)
    batches = list(_sailed(ferry, seconds, sorted(events, key=lambda event: event[0]), progress))
    end = ferry.start_ns + round(seconds * 1e9)
    return probe.wires(concat([one for one in batches if len(one)]), ferry.start_ns, end, seed)


def _sailed(
    ferry: Ferry, seconds: float, events: list[tuple[float, str, str]], progress: Progress
) -> Iterator[FrameBatch]:
    while ferry.elapsed_s < seconds + 0.1:
        while events and events[0][0] <= ferry.elapsed_s + 1e-9:
            _, name, value = events.pop(0)
            ferry.set(name, value)
        until = min(events[0][0] if events else np.inf, ferry.elapsed_s + STRETCH_S)
        yield ferry.advance(max(until - ferry.elapsed_s, 0.02))
        progress(min(ferry.elapsed_s, seconds))


def channels_of(probe: Probe, wires: Sequence[Wire], seed: int) -> list[Channel]:
    """The wires as an instrument that samples volts records them."""
    found = []
    for number, wire in enumerate(wires, 1):
        samples = _volts(probe, wire, seed + number)
        found.append(Channel(wire.name, number, Analog(0, probe.step_ns, samples)))
    return found


def _volts(probe: Probe, wire: Wire, seed: int) -> Any:
    return volts(wire.line, probe.step_ns, wire.low, wire.high, probe.rise_ns, probe.noise, seed)


def record_probe(
    word: str,
    seconds: float,
    folder: Path,
    seed: int = 1,
    events: Sequence[tuple[float, str, str]] = (),
    progress: Callable[[int, int], None] = lambda *_: None,
) -> None:
    """Make a recording of what a probe records, in volts, and of what is read of it.

    Args:
        word: One of `PROBES`.
        seconds: How long.
        folder: The recording to be.
        seed, events: As `probed_wires` has them.
        progress: Told how much of how much is done; what it raises gives it up.

    Raises:
        InputError: it lasts too long.
        RecordingError: there is something of that name already, or no room.
    """
    _check_length(seconds)
    probe, whole = PROBES[word], READ
    wires = probed_wires(probe, seconds, seed, events, lambda at: progress(int(whole * at / seconds), WHOLE))
    keep(channels_of(probe, wires, seed), folder, f"a probe on {probe.title}", progress=progress)


def _check_length(seconds: float) -> None:
    if not 0 < seconds <= LONGEST_S:
        raise InputError("--seconds", f"{seconds:g} s would fill the disk", f"at most {LONGEST_S:g}")


def write_probe(
    word: str,
    seconds: float,
    out: Path,
    seed: int = 1,
    events: Sequence[tuple[float, str, str]] = (),
    progress: Progress = lambda _: None,
) -> str:
    """Write what a probe records; gives what was written, in words.

    Args:
        word: One of `PROBES`.
        seconds: How long.
        out: A file that ends in .vcd (levels) or in .csv (volts).
        seed, events, progress: As `probed_wires` has them.

    Raises:
        InputError: the ending is none of these, or it lasts too long.
        RecordingError: something of that name is there already, or it cannot be written.
    """
    if word not in PROBES:
        raise InputError("--probe", f"nothing aboard is called {word}", ", ".join(PROBES))
    if out.suffix.lower() not in (".vcd", ".csv"):
        raise InputError(str(out), "is no file of waveforms that is written", "an ending of .vcd or .csv")
    _check_length(seconds)
    if out.exists():
        raise RecordingError(str(out), "there is something of this name already")
    probe = PROBES[word]
    wires = probed_wires(probe, seconds, seed, events, progress)
    try:
        if out.suffix.lower() == ".vcd":
            _write_vcd(out, wires)
            return f"{sum(len(wire.line.edges) for wire in wires)} edges of {' and '.join(w.name for w in wires)}"
        return f"{_write_csv(out, probe, wires, seed)} samples of {' and '.join(w.name for w in wires)}"
    except OSError as error:
        out.unlink(missing_ok=True)
        raise RecordingError(str(out), f"cannot be written ({error.strerror})") from None


def _write_vcd(out: Path, wires: Sequence[Wire]) -> None:
    """A value change dump. Source: IEEE 1364-2005, 18.2."""
    codes = [chr(33 + place) for place in range(len(wires))]
    times = np.concatenate([wire.line.edges for wire in wires])
    levels = np.concatenate([_levels(wire) for wire in wires])
    which = np.repeat(np.arange(len(wires)), [len(wire.line.edges) for wire in wires])
    order = np.argsort(times, kind="stable")
    with out.open("w", encoding="ascii") as file:
        file.write(
            "$version made-up waveforms of the ferry Tern $end\n$timescale 1 ns $end\n$scope module probe $end\n"
        )
        file.writelines(f"$var wire 1 {code} {wire.name} $end\n" for code, wire in zip(codes, wires, strict=True))
        file.write("$upscope $end\n$enddefinitions $end\n#0\n")
        file.writelines(f"{_first(wire)}{code}\n" for code, wire in zip(codes, wires, strict=True))
        last = 0
        for time, level, wire in zip(times[order].tolist(), levels[order].tolist(), which[order].tolist(), strict=True):
            if time != last:
                file.write(f"#{time}\n")
                last = time
            file.write(f"{level}{codes[wire]}\n")
        file.write(f"#{wires[0].line.end}\n")


def _first(wire: Wire) -> int:
    return wire.line.first ^ wire.inverted


def _levels(wire: Wire) -> Any:
    """The level behind each edge."""
    return (_first(wire) + 1 + np.arange(len(wire.line.edges))) & 1


def _write_csv(out: Path, probe: Probe, wires: Sequence[Wire], seed: int) -> int:
    """Volts in millivolts, a line a sample, at a fixed interval that the header says."""
    import pyarrow as pa
    from pyarrow import csv

    columns = [np.rint(_volts(probe, wire, seed + n) * 1000).astype(np.int32) for n, wire in enumerate(wires, 1)]
    with out.open("wb") as file:
        file.write(f"Sample interval,{probe.step_ns:g} ns\n".encode())
        file.write((",".join(f"{wire.name} (mV)" for wire in wires) + "\n").encode())
        table = pa.table([pa.array(column) for column in columns], names=[wire.name for wire in wires])
        csv.write_csv(table, file, csv.WriteOptions(include_header=False))
    return len(columns[0])
