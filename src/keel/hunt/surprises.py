"""What a field does in a bad recording and never did in a good one: stuck, out of range, not available, noisy."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from keel.hunt.candidates import score_of
from keel.hunt.carriers import constant_above
from keel.hunt.columns import Column
from keel.hunt.structure import Piece, Structure
from keel.model.fields import BitField, extract
from keel.model.frames import Mask, Times
from keel.model.units import NS_PER_S

MOST_TIMES = 20
SURE = 45.0
STATES = 16
"""A field of no more values is one of states: another drive may well use others of them."""
STATE_WEIGHT = 0.35
NOISE_WINDOW_S = 2.0
FEWEST_IN_WINDOW = 8
LONGEST = 62
LESS_LIKELY = 0.8
"""What the second reading of one fault counts, beside the first."""
NOT_AVAILABLE_SURE = 14.0
A_BYTE = 8
NOISE_SURE = 8.0

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Finding:
    """Something different.

    Attributes:
        kind: ``constant``, ``stuck``, ``out_of_range``, ``not_available``, ``missing``, ``cycle_changed``,
            ``counter_skips``, ``checksum_wrong``, ``noisy``, ``dropout`` or ``new_identifier``.
        nats: How surprising it is.
        times: When, in the bad recording, in ns since 1970; the first ones.
    """

    key: int
    kind: str
    field: BitField | None
    nats: float
    times: tuple[int, ...]
    why: str
    page: int | None = None

    @property
    def score(self) -> float:
        """From 0 to 1."""
        return round(score_of(self.nats), 4)

    def scaled(self, factor: float) -> Finding:
        """The same, less surprising."""
        return replace(self, nats=self.nats * factor)


def field_surprises(structure: Structure, good: Column, bad: Column) -> list[Finding]:
    """What the fields of an identifier do in the bad recording, of each the most surprising and its other reading."""
    found = []
    for piece in structure.pieces:
        if piece.kind not in ("value", "flag") or not piece.moving:
            continue
        mine = structure.rows_of(piece.page, good.payloads)
        theirs = structure.rows_of(piece.page, bad.payloads)
        if mine.sum() < 8 or theirs.sum() < 8:
            continue
        wide = _moved(_widened(structure, piece, good), piece, good.payloads[mine], bad.payloads[theirs])
        one, other = _both(wide, good, mine, bad, theirs)
        for kind, nats, times, why, field in _ways(piece, wide, one, other, good.payloads[mine], bad.payloads[theirs]):
            if nats > 0:
                found.append(
                    Finding(
                        structure.key, kind, field or _held(wide, one, other), min(nats, SURE), times, why, piece.page
                    )
                )
    return found


def _both(wide: BitField, good: Column, mine: Mask, bad: Column, theirs: Mask) -> tuple[_Series, _Series]:
    """The field in both, read so that what the good one says lies in the middle of the field's range.

    Whether it is signed is then no matter: just below zero is just below zero, and not the other end of the range.
    """
    one, other = extract(wide, good.payloads[mine]), extract(wide, bad.payloads[theirs])
    if wide.length < 63:
        size = 1 << wide.length
        signed = np.where(one >= size // 2, one - size, one)
        if np.abs(np.diff(signed)).sum() < np.abs(np.diff(one)).sum():
            one, other = signed, np.where(other >= size // 2, other - size, other)
        middle = (int(one.min()) + int(one.max())) // 2
        round_about = (other - middle + size // 2) % size - size // 2 + middle
        # Round the end of its range it goes in its usual steps; a fault jumps there.
        usual = 3 * max(int(np.abs(np.diff(one)).max()), 1)
        jumps, jumps_round = (np.count_nonzero(np.abs(np.diff(x)) > usual) for x in (other, round_about))
        if jumps and jumps_round < 0.34 * jumps:
            other = round_about
    return _Series(good.times[mine], one), _Series(bad.times[theirs], other)


def _ways(
    piece: Piece, wide: BitField, one: _Series, other: _Series, good: npt.NDArray[np.uint8], bad: npt.NDArray[np.uint8]
) -> list[Way]:
    """The kind of fault that explains a field best, and what else it may be: one fault looks like several."""
    best = _worst(piece, wide, one, other, good, bad)
    if best[0] == "not_available":
        out = _out_of_range(one, other)
        return [best, (out[0], min(out[1], LESS_LIKELY * best[1]), *out[2:])] if out[1] > 0 else [best]
    if best[0] not in ("stuck", "out_of_range") or not best[2]:
        return [best]
    # What is held outside the usual range is both, and only its maker knows which was meant.
    held = int(other.raw[np.searchsorted(other.times, best[2][0])])
    low, high = int(one.raw.min()), int(one.raw.max())
    if low <= held <= high:
        return [best]
    if best[0] == "stuck":
        why = f"holds {held}; in the good one from {low} to {high}"
        return [best, ("out_of_range", LESS_LIKELY * best[1], best[2], why, None)]
    stuck = _stuck(one, other)
    return [best, (stuck[0], min(stuck[1], LESS_LIKELY * best[1]), *stuck[2:])]


def _worst(
    piece: Piece, wide: BitField, one: _Series, other: _Series, good: npt.NDArray[np.uint8], bad: npt.NDArray[np.uint8]
) -> Way:
    """The kind of fault that explains a field best."""
    absent = _not_available(piece, wide, good, bad, one, other)
    if absent[1] >= NOT_AVAILABLE_SURE:
        rest = max(_stuck(one, other)[1], _out_of_range(one, other)[1], _noisy(one, other)[1])
        return (absent[0], max(absent[1], min(rest, SURE)), *absent[2:])
    stuck, out, noisy = _stuck(one, other), _out_of_range(one, other), _noisy(one, other)
    if stuck[1] > out[1]:
        held = int(other.raw[np.searchsorted(other.times, stuck[2][0])])
        low, high = int(one.raw.min()), int(one.raw.max())
        beyond = max(low - held, held - high) / max(high - low, 1)
        # Where the rest is in the usual range, what is held outside is out of range; else it is just another drive.
        usual = float(((other.raw >= low) & (other.raw <= high)).mean())
        alone = float((np.abs(other.raw - held) < 0.1 * max(high - low, 1)).mean())
        if beyond > 0.2 and (usual > 0.15 or (alone > 0.8 and beyond > 1)):
            why = f"holds {held}; in the good one from {low} to {high}"
            out = ("out_of_range", stuck[1], stuck[2], why, None)
            stuck = (stuck[0], 0.0, *stuck[2:])
    if noisy[1] > NOISE_SURE and out[1] > 0 and _excess(one.raw, other.raw) < 1:
        noisy = (noisy[0], max(noisy[1], out[1]), *noisy[2:])
        out = (out[0], 0.0, *out[2:])
    return max((stuck, out, noisy, absent), key=lambda way: way[1])


Way = tuple[str, float, tuple[int, ...], str, BitField | None]


@dataclass(frozen=True, eq=False)
class _Series:
    times: Times
    raw: Ints

    @property
    def seconds(self) -> float:
        return max(float(self.times[-1] - self.times[0]) / NS_PER_S, 1e-3)

    def holds(self) -> tuple[Floats, Ints]:
        """How long each value was held, in seconds, and where each hold begins."""
        begins = np.concatenate([[0], np.flatnonzero(np.diff(self.raw)) + 1])
        ends = np.concatenate([self.times[begins[1:]], self.times[-1:]])
        return (ends - self.times[begins]) / NS_PER_S, begins


def _stuck(good: _Series, bad: _Series) -> Way:
    held, _ = good.holds()
    now, begins = bad.holds()
    states = len(np.unique(good.raw)) <= STATES
    longest, at = float(now.max()), int(begins[now.argmax()])
    rate = (len(held) - 1) / good.seconds
    usual = max(float(held.max()), 2 * float(np.median(np.diff(good.times))) / NS_PER_S, 0.2)
    expected = rate * longest
    nats = min(9 * np.log(max(longest / usual, 1e-9)), expected)
    # Another value than the one it rests at: a vehicle that stands has many fields at rest.
    kinds, counts = np.unique(good.raw, return_counts=True)
    rest = int(kinds[counts.argmax()])
    if int(bad.raw[at]) == rest and counts.max() > 0.1 * len(good.raw):
        nats *= 0.5
    why = f"holds {int(bad.raw[at])} for {longest:.3g} s; never longer than {usual:.3g} s in the good one"
    return "stuck", float(nats * (STATE_WEIGHT if states else 1.0)), (int(bad.times[at]),), why, None


def _out_of_range(good: _Series, bad: _Series) -> Way:
    low, high = int(good.raw.min()), int(good.raw.max())
    width = max(high - low, 1)
    beyond = np.maximum(low - bad.raw, bad.raw - high)
    worst = int(beyond.max())
    none: Way = ("out_of_range", 0.0, (), "", None)
    if worst <= 0:
        return none
    out = np.flatnonzero(beyond > 0.5 * worst)
    times = tuple(int(t) for t in bad.times[out[:MOST_TIMES]])
    excess = worst / width
    half = len(good.raw) // 2
    natural = max(_excess(good.raw[:half], good.raw[half:]), _excess(good.raw[half:], good.raw[:half]))
    nats = 6 * np.log1p(excess) - 6 * np.log1p(3 * natural)
    # A jump out of the range, farther than it ever jumped.
    steps, now = np.abs(np.diff(good.raw)), np.abs(np.diff(bad.raw))
    entering = np.flatnonzero((beyond[1:] > 0) & (beyond[:-1] <= 0.2 * worst))
    if len(entering):
        jump = float(now[entering].max())
        nats = max(nats, 10 * np.log(max(jump, 1) / max(float(steps.max()), 1.0)) + 2 * np.log1p(excess))
    if len(np.unique(good.raw)) <= STATES:
        nats *= STATE_WEIGHT
    value = int(bad.raw[int(beyond.argmax())])
    why = f"goes to {value}; in the good one from {low} to {high}"
    return "out_of_range", float(nats), times, why, None


def _excess(a: Ints, b: Ints) -> float:
    """By how much ``b`` leaves the range of ``a``, by that range."""
    if not len(a) or not len(b):
        return 0.0
    width = max(int(a.max() - a.min()), 1)
    return max(int(a.min() - b.min()), int(b.max() - a.max()), 0) / width


def _noisy(good: _Series, bad: _Series) -> Way:
    none: Way = ("noisy", 0.0, (), "", None)
    apart = [np.diff(s.times) for s in (good, bad)]
    rhythm = float(np.median(apart[1])) / max(float(np.median(apart[0])), 1.0)
    if len(np.unique(good.raw)) <= STATES or not 0.85 < rhythm < 1.15:
        return none
    # Where frames come as things happen, their values differ by how long ago the last one was.
    regular = float(np.quantile(apart[0], 0.9)) < 1.5 * float(np.median(apart[0]))
    before, now = _unrest(good), _unrest(bad)
    if len(before[0]) < 4 or len(now[0]) < 4:
        return none
    usual = max(float(before[0].max()), 1.0)
    typical = max(float(np.quantile(before[0], 0.9)), 0.5)
    worst = np.sort(now[0])[-max(len(now[0]) // 10, 3) :]
    ratio = float(np.median(worst)) / usual
    if ratio <= 1:
        return none
    nats = (14 if regular else 4) * np.log(ratio) + 2 * np.log(float(np.median(worst)) / typical)
    at = np.flatnonzero(now[0] > usual)
    why = f"jitters by {float(np.median(worst)):.3g} from frame to frame; by {usual:.3g} at most in the good one"
    return "noisy", float(nats), tuple(int(t) for t in now[1][at[:MOST_TIMES]]), why, None


def _unrest(series: _Series) -> tuple[Floats, Times]:
    """How much the value turns back and forth, in windows of time: mean second difference, and when."""
    turn = np.abs(np.diff(series.raw, n=2)).astype(np.float64)
    per = float(np.median(np.diff(series.times))) / NS_PER_S
    size = int(min(max(NOISE_WINDOW_S / max(per, 1e-6), FEWEST_IN_WINDOW), 4000))
    count = len(turn) // size
    if not count:
        return np.zeros(0), series.times[:0]
    # The greatest tenth is left out: a jump is no noise.
    windows = np.sort(turn[: count * size].reshape(count, size), axis=1)[:, : max(int(size * 0.9), 1)]
    return windows.mean(axis=1), series.times[: count * size : size]


def _not_available(
    piece: Piece, wide: BitField, good: npt.NDArray[np.uint8], bad: npt.NDArray[np.uint8], one: _Series, other: _Series
) -> Way:
    """All bits of a field set, as they never were in the good one."""
    none: Way = ("not_available", 0.0, (), "", None)
    if piece.field.length < 2:
        return none
    usual = max(int(np.abs(np.diff(one.raw)).max()), 1)
    reach = max(int(one.raw.max()) - int(one.raw.min()), 1)
    for length in range(wide.length, piece.field.length - 1, -1):
        field = _lower(wide, length)
        full = (1 << length) - 1 if length < 64 else -1
        now = extract(field, bad)
        hits = np.flatnonzero(now == full)
        if not len(hits) or bool((extract(field, good) == full).any()):
            continue
        # All bits set is -1, too: what counts down past zero is also seen a little lower, and comes in its usual steps.
        near = max(8, reach // 20)
        if np.count_nonzero((now < full) & (now >= full - near)) > 0.5 * len(hits):
            continue
        is_hit = now == full
        moves = np.abs(np.diff(other.raw))[is_hit[1:] != is_hit[:-1]]
        if len(moves):
            jumps = float(np.median(moves)) > 2 * usual or float(np.median(moves)) > 0.25 * reach
            sure = 10.0 if jumps else -14.0
        else:
            sure = 8.0 if abs(int(other.raw[hits[0]]) - int(np.median(one.raw))) > reach else -6.0
        nats = 2.0 * min(length, 10) + min(4.0 * (length - piece.field.length), 16.0) + sure
        if length < A_BYTE or (len(hits) == 1 and len(now) > 1):
            # A small number reaches its end by itself.
            nats *= 0.6
        times = tuple(int(t) for t in other.times[hits[:MOST_TIMES]])
        why = f"all bits set (not available) in {len(hits)} of {len(now)} frames; never in the good one"
        return "not_available", max(nats, 0.0), times, why, field
    return none


def _moved(wide: BitField, piece: Piece, good: npt.NDArray[np.uint8], bad: npt.NDArray[np.uint8]) -> BitField:
    """The field up to its highest bit that is not what it always was in the good one.

    A bit that changes while what lies below goes on in its usual steps is another field's.
    """
    bits = np.unpackbits(bad[:, : wide.last_byte + 1], axis=1, bitorder="little")
    first = np.unpackbits(good[:1, : wide.last_byte + 1], axis=1, bitorder="little")[0]
    usual = 3 * max(int(np.abs(np.diff(extract(_lower(wide, piece.field.length), good))).max()), 1)
    length = piece.field.length
    for more in range(length + 1, wide.length + 1):
        top = bits[:, wide.bits[more - 1]]
        flips = np.flatnonzero(top[1:] != top[:-1])
        if len(flips):
            below = extract(_lower(wide, more - 1), bad)
            steps = np.abs(below[flips + 1] - below[flips])
            if float((steps > usual).mean()) < 0.5:
                break
        # A bit that is always set, and never was, may be a number's that goes farther; one always cleared is a flag's.
        if len(flips) or top[0] > first[wide.bits[more - 1]]:
            length = more
    return _lower(wide, length)


def _held(field: BitField, one: _Series, other: _Series) -> BitField:
    """The field as it was read: signed, if what is said of it goes below zero."""
    below_zero = min(int(one.raw.min()), int(other.raw.min())) < 0
    return replace(field, signed=below_zero)


def _lower(wide: BitField, length: int) -> BitField:
    """The lower bits of a field."""
    if wide.order == "little":
        return BitField(wide.start, length)
    return BitField(wide.bits[length - 1], length, "big")


def _widened(structure: Structure, piece: Piece, good: Column) -> BitField:
    """The field with the bits above it that stood still in the good one; flags are what they are."""
    more = 0 if piece.kind == "flag" else constant_above(structure, good, piece)[0]
    plain = BitField(piece.field.start, piece.field.length, piece.field.order)
    return plain.longer(min(more, max(LONGEST - plain.length, 0))) or plain
