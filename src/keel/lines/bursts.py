"""A line whose code nobody knows: its messages, cut by silence, and in each the same bytes for the same pulses.

What is on the wire need not be understood to see whether it changes. Pulses that come in a few lengths are symbols: as
many bits as it takes to number the lengths. Where they do not, levels are taken as they are, each as long as the
shortest pulse. Bits fill bytes from the highest on; the last byte is filled up with zeros.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from keel.lines.code import Asked, Code, Field, Guess, How
from keel.lines.code_uart import gap_ns
from keel.lines.evidence import NOTHING
from keel.lines.framing import frames_of
from keel.lines.pulses import BitTime, bit_time, busy, explained, glitch_free, pieces_of, resting, widths_of, window
from keel.media.bursts import UNKNOWN
from keel.model.bus import Bus
from keel.model.waveform import Logic

Floats = npt.NDArray[np.float64]
By = Literal["low", "high", "both", "levels"]
WAYS: tuple[By, ...] = ("low", "high", "both", "levels")
"""What carries the symbols: the lengths of low pulses, of high ones, of both, or levels as they are."""
A_JUMP, LEAST_SILENCE = 2.5, 4.0
"""Silences are so many times as long as pulses within messages; and as the usual pulse at least."""
APART, FEWEST, MOST_KINDS, A_KIND = 1.3, 3, 8, 0.01
"""Two lengths are different where one is so many times the other; a length is a kind where so many pulses have it, and
such a share; pulses of more kinds are no symbols."""
GLITCH = 0.2


@dataclass(frozen=True)
class Alphabet:
    """How pulses are read: what carries symbols, where lengths of low and of high pulses part in ns, the shortest pulse
    in ns."""

    by: By
    low: tuple[float, ...]
    high: tuple[float, ...]
    unit: float


def _silence(widths: Floats) -> float:
    """From which length on a stay is no pulse but a silence between messages, in ns."""
    ordered = np.sort(widths)
    usual = float(np.median(ordered))
    start = int(np.searchsorted(ordered, usual))
    jumps = ordered[start + 1 :] / ordered[start:-1]
    wide = (jumps >= A_JUMP) & (ordered[start + 1 :] >= LEAST_SILENCE * usual)
    if not wide.any():
        return np.inf
    # The first wide jump above the usual length: a pause within a message is shorter than the silence behind it.
    at = start + int(np.argmax(wide))
    return float(np.sqrt(ordered[at] * ordered[at + 1]))


def _kinds(widths: Floats) -> tuple[float, ...]:
    """Where the kinds of lengths part, in ns; none where all are alike or no kinds show."""
    ordered = np.sort(widths)
    need = max(FEWEST, A_KIND * len(ordered))
    breaks = np.flatnonzero(ordered[1:] > APART * ordered[:-1]) + 1
    groups = [group for group in np.split(ordered, breaks) if len(group) >= need]
    if len(groups) > MOST_KINDS or any(group[-1] > 2 * APART * group[0] for group in groups):
        return ()
    return tuple(float(np.sqrt(a[-1] * b[0])) for a, b in zip(groups[:-1], groups[1:], strict=True))


def alphabet(line: Logic, silence: float) -> Alphabet:
    """How the pulses of a line are best read."""
    low, high = (one[one < silence] for one in widths_of(pieces_of(line)))
    everything = np.concatenate([low, high])
    unit = float(np.percentile(everything, 5)) if len(everything) else 1.0
    clock = bit_time(line)
    parts_low, parts_high = _kinds(low), _kinds(high)
    if parts_low and not parts_high:
        return Alphabet("low", parts_low, (), unit)
    if parts_high and not parts_low:
        return Alphabet("high", (), parts_high, unit)
    if len(parts_low) == len(parts_high) == 1:
        # Of a short and a long stay in turn one says it all, where both last as long together.
        return Alphabet("high", parts_low, parts_high, unit) if _is_even(line, silence) else Alphabet(
            "both", parts_low, parts_high, unit
        )  # fmt: skip
    if clock is not None and clock.fits > 0.9:
        return Alphabet("levels", (), (), clock.ns)
    return Alphabet("both", parts_low, parts_high, unit) if parts_low else Alphabet("levels", (), (), unit)


def _is_even(line: Logic, silence: float) -> bool:
    """Whether a pulse and the pause behind it last as long together, always."""
    widths = np.diff(line.edges).astype(np.float64)
    short = (widths[:-1] < silence) & (widths[1:] < silence)
    for phase in (0, 1):
        both = (widths[:-1] + widths[1:])[phase::2][short[phase::2]]
        if len(both) >= FEWEST and float((np.abs(both / np.median(both) - 1) < 0.15).mean()) > 0.9:
            return True
    return False


def bits_of(edges: Any, first: int, how: Alphabet) -> tuple[npt.NDArray[np.uint8], Floats]:
    """The bits of one message, and when each begins in ns.

    Args:
        edges: Of the message, from its first to its last.
        first: The level behind the first edge.
        how: How its pulses are read.
    """
    widths = np.diff(edges).astype(np.float64)
    levels = (first + np.arange(len(widths))) & 1
    if how.by == "levels":
        counts = np.maximum(np.rint(widths / how.unit), 1).astype(np.int64)
        starts = np.repeat(edges[:-1], counts) + _places(counts) * how.unit
        return np.repeat(levels, counts).astype(np.uint8), starts
    used = np.ones(len(widths), np.bool_) if how.by == "both" else levels == (how.by == "high")
    number = np.where(
        levels == 1, np.searchsorted(how.high, widths, side="right"), np.searchsorted(how.low, widths, side="right")
    )[used]  # fmt: skip
    size = max(max(len(how.low), len(how.high)).bit_length(), 1)
    bits = (number[:, None] >> np.arange(size)[::-1]) & 1
    return bits.ravel().astype(np.uint8), np.repeat(edges[:-1][used].astype(np.float64), size)


def _places(counts: Any) -> Any:
    """0, 1, 2 ... for each of some runs, one after another."""
    ends = np.cumsum(counts)
    return np.arange(ends[-1] if len(ends) else 0) - np.repeat(ends - counts, counts)


def read(logic: Logic, unit: BitTime | None, asked: Asked) -> list[Guess]:
    """The messages of a line, whatever its code is."""
    count = sum(len(part.edges) for part in logic.stretches())
    if count < 2:
        return []
    inverted = resting(logic)[0] == 0 if asked.inverted is None else asked.inverted
    line = logic.inverted if inverted else logic
    shortest = float(np.percentile(np.concatenate(widths_of(pieces_of(line))), 5)) if count > 2 else 1.0
    line = glitch_free(line, GLITCH * shortest)
    widths = np.concatenate(widths_of(pieces_of(line)))
    said = asked.settings
    silence = float(gap_ns(said["gap"])) if "gap" in said else _silence(widths) if len(widths) else np.inf
    how = alphabet(line, silence)
    if asked.rate is not None:
        how = replace(how, by="levels", unit=1e9 / asked.rate)
    begins, ends = busy(line, silence)
    payloads = [_payload(line, int(a), int(b), how) for a, b in zip(begins, ends, strict=True)]
    sizes = np.array([len(one) for one in payloads])
    offsets = np.concatenate([[0], np.cumsum(sizes)])
    data = np.frombuffer(b"".join(payloads), np.uint8)
    none = np.zeros(len(begins), np.uint32)
    frames = frames_of(begins, ends, UNKNOWN.number, 0, offsets, data, none)
    share = explained(line, begins, ends, silence)
    rate = 1e9 / how.unit
    kinds = max(len(how.low), len(how.high)) + 1
    words = f"levels of {how.unit / 1e3:.4g} µs" if how.by == "levels" else f"{kinds} lengths of pulses as symbols"
    settings = {"by": how.by, "gap": f"{silence / 1e6:.4g}ms" if np.isfinite(silence) else "none"}
    numbers = {"unit": how.unit, "spike": GLITCH * shortest, "by": float(WAYS.index(how.by))}
    numbers |= {f"low_{n}": one for n, one in enumerate(how.low)} | {f"high_{n}": one for n, one in enumerate(how.high)}
    bus = Bus("", max(round(rate), 1), medium="bursts", stamp="start", assumed=False)
    said_so = (f"no code: messages cut by silence, read by {words}",)
    return [Guess("bursts", rate, None, inverted, settings, frames, bus, share, NOTHING, "", 0, said_so, numbers)]


def _payload(line: Logic, begin: int, end: int, how: Alphabet) -> bytes:
    bits, _ = _message(line, begin, end, how)
    return np.packbits(bits).tobytes()


def _message(line: Logic, begin: int, end: int, how: Alphabet) -> tuple[npt.NDArray[np.uint8], Floats]:
    low, high = np.searchsorted(line.edges, [begin, end + 1]).tolist()
    return bits_of(line.edges[low:high], line.first ^ (low + 1) & 1, how)


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The bytes of a message over the pulses they are read from."""
    numbers = how.numbers
    cuts = {level: tuple(value for name, value in sorted(numbers.items()) if name.startswith(f"{level}_"))
            for level in ("low", "high")}  # fmt: skip
    known = Alphabet(WAYS[int(numbers["by"])], cuts["low"], cuts["high"], numbers["unit"])
    part = glitch_free(window(line, start - 1, end + 2), numbers["spike"])
    bits, starts = _message(part, start, end, known)
    fields = []
    for at in range(0, len(bits), 8):
        mine = bits[at : at + 8]
        value = int(np.packbits(mine)[0])
        stop = round(float(starts[at + 8])) if at + 8 < len(bits) else end
        fields.append(
            Field("byte", round(float(starts[at])), stop, value, "".join(map(str, mine)), None, bytes([value]))
        )
    return fields


BURSTS = Code("bursts", "bursts", read, explain, True, {"gap": "a time, as 5ms"}, is_tried=False, medium="bursts")
"""Not tried by itself: it reads whatever there is, and proves nothing."""
