"""A probe on a line aboard: what an instrument records of its wires."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from keel.bench.ferry import Ferry
from keel.bench.instrument import Probe, Sailed, Wire
from keel.bench.probes import PROBES
from keel.bench.wires import volts
from keel.errors import InputError, RecordingError
from keel.model.frames import FrameBatch, concat
from keel.model.waveform import Analog, Channel
from keel.probe.importing import READ, WHOLE, Said, keep

STRETCH_S, LONGEST_S = 1.0, 120.0
Progress = Callable[[float], None]


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
    batch = concat([one for one in batches if len(one)])
    return probe.wires(Sailed(batch, ferry.start_ns, end, seed))


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
    """The wires as an instrument records them: in volts, or as levels."""
    found = []
    for number, wire in enumerate(wires, 1):
        if not probe.step_ns:
            found.append(Channel(wire.name, number, wire.line.inverted if wire.inverted else wire.line))
            continue
        samples = _volts(probe, wire, seed + number)
        found.append(Channel(wire.name, number, Analog(0, probe.step_ns, samples)))
    return found


def _volts(probe: Probe, wire: Wire, seed: int) -> Any:
    if wire.curve is not None:
        times = np.arange(int((wire.line.end - wire.line.start) / probe.step_ns)) * probe.step_ns
        noise = np.random.default_rng([seed, 29]).normal(0, probe.noise, len(times))
        return (wire.curve(times) + noise).astype(np.float32)
    return volts(wire.line, probe.step_ns, wire.low, wire.high, probe.rise_ns, probe.noise, seed, probe.rings)


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
    said = Said((probe.wanted,))
    keep(channels_of(probe, wires, seed), folder, f"a probe on {probe.title}", said, progress)


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
    if not probe.step_ns and out.suffix.lower() == ".csv":
        raise InputError(str(out), f"{word} is recorded as levels alone", "an ending of .vcd")
    wires = probed_wires(probe, seconds, seed, events, progress)
    try:
        if out.suffix.lower() == ".vcd":
            wires = [wire for wire in wires if wire.curve is None]
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
