"""Levels as files hold them: dumps of value changes, volts as text and as sound."""

from __future__ import annotations

import struct

import numpy as np
import numpy.typing as npt

from keel.model.waveform import Logic


def vcd(**lines: Logic) -> bytes:
    """A dump of some lines, a nanosecond a unit."""
    codes = {name: chr(33 + place) for place, name in enumerate(lines)}
    out = ["$timescale 1 ns $end", "$scope module probe $end"]
    out += [f"$var wire 1 {code} {name} $end" for name, code in codes.items()]
    out += ["$upscope $end", "$enddefinitions $end", "#0", *(f"{line.first}{codes[n]}" for n, line in lines.items())]
    changes = sorted(
        (int(t), name, line.first ^ ((k + 1) & 1)) for name, line in lines.items() for k, t in enumerate(line.edges)
    )
    out += [f"#{time}\n{level}{codes[name]}" for time, name, level in changes]
    return "\n".join([*out, f"#{max(line.end for line in lines.values())}"]).encode() + b"\n"


def volts(
    line: Logic, step_ns: float, low: float, high: float, rounded_ns: float = 0.0, noise: float = 0.0, seed: int = 1
) -> npt.NDArray[np.float64]:
    """What an instrument samples: levels as volts, rounded by a resistor and a capacitor, with noise."""
    times = np.arange(line.start, line.end, step_ns)
    levels = (line.first ^ (np.searchsorted(line.edges, times, side="right") & 1)).astype(np.float64)
    if rounded_ns:
        share, value = np.exp(-step_ns / rounded_ns), levels[0]
        for place, level in enumerate(levels):
            value = share * value + (1 - share) * level
            levels[place] = value
    return low + (high - low) * levels + np.random.default_rng(seed).normal(0, noise, len(levels))


def wav(samples: npt.NDArray[np.float64], rate: int, bits: int = 16, kind: int = 1) -> bytes:
    """A WAV file of one channel, or of several as columns; full scale is 1."""
    count = 1 if samples.ndim == 1 else samples.shape[1]
    if kind == 3:
        data = samples.astype(f"<f{bits // 8}").tobytes()
    elif bits == 8:
        data = np.rint(samples * 127 + 128).astype(np.uint8).tobytes()
    elif bits == 24:
        whole = np.rint(samples * 8_388_607).astype("<i4").reshape(-1, 1).view(np.uint8)
        data = whole[:, :3].tobytes()
    else:
        data = np.rint(samples * (2 ** (bits - 1) - 1)).astype(f"<i{bits // 8}").tobytes()
    size = bits // 8
    head = struct.pack("<HHIIHH", kind, count, rate, rate * size * count, size * count, bits)
    return (
        b"RIFF"
        + struct.pack("<I", 36 + len(data))
        + b"WAVEfmt "
        + struct.pack("<I", 16)
        + head
        + b"data"
        + struct.pack("<I", len(data))
        + data
    )
