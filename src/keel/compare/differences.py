"""What is different between two sides, each with how much it says and where to look."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from math import log

import numpy as np

from keel.compare.buses import BusPairs
from keel.compare.constants import constants
from keel.compare.difference import KINDS, Difference, common, message_of, signal_over, surprise
from keel.compare.sides import Alignment, Both, Side
from keel.measure.census import Tally
from keel.measure.checks import run_checks
from keel.measure.courses import Course, Courses, Envelope
from keel.measure.cycles import describe_tally
from keel.measure.faults import classes
from keel.measure.load import bus_means
from keel.media.every import key_words
from keel.model.fields import BitField
from keel.model.frames import Rows
from keel.signals.decoding import decode_rows
from keel.signals.dictionary import Message
from keel.signals.signal import Signal

LEAST_SCORE = 0.1
MOVED = 3
"""A bit that flipped so often moves."""
MOST_ALIKE = 3
"""So many more signals of one message with one kind of difference are told in one line."""


@dataclass(frozen=True, eq=False)
class Comparison:
    """Two sides laid over each other, and what is different, most telling first."""

    both: Both
    differences: tuple[Difference, ...]

    @property
    def a(self) -> Side:
        """The first side."""
        return self.both.a

    @property
    def b(self) -> Side:
        """The second side."""
        return self.both.b

    @property
    def alignment(self) -> Alignment:
        """How their times go over each other."""
        return self.both.alignment

    @property
    def buses(self) -> BusPairs:
        """Which bus is which."""
        return self.both.buses

    def name(self, key: int | None) -> str:
        """The message name of an identifier, as either side knows it."""
        if key is None:
            return ""
        message = message_of(self.both, key)
        return message.name if message else ""


def compare(both: Both, cancelled: Callable[[], bool] = lambda: False) -> Comparison:
    """Everything that is different. ``cancelled`` is asked between kinds; then the answer holds what was found.

    Sides that cannot be compared have no differences: `Both.problem` says why.
    """
    found: list[Difference] = []
    for look in () if both.problem else (constants, _identifiers, _loads, _faults, _checks, _moves, _values):
        if cancelled():
            break
        found += look(both)
    kept = [d for d in found if d.score >= LEAST_SCORE]
    kept.sort(key=lambda d: (-d.score, KINDS.index(d.kind), d.bus, d.key or 0))
    return Comparison(both, tuple(_gathered(kept)))


def _gathered(ranked: list[Difference]) -> Iterator[Difference]:
    """Of many signals of one message that differ alike only the first, which says how many more there are."""
    counts = Counter((d.key, d.kind) for d in ranked if d.signal)
    seen: set[tuple[int | None, str]] = set()
    for d in ranked:
        place = (d.key, d.kind)
        more = counts[place] - 1
        if not d.signal or more < MOST_ALIKE:
            yield d
        elif place not in seen:
            seen.add(place)
            yield replace(d, why=f"{d.why}; so do {more} more of its signals")


def _identifiers(both: Both) -> Iterator[Difference]:
    a, b, buses = both.a, both.b, both.buses
    for key, tally in a.census.items():
        if buses.to_b(key) not in b.census:
            words = f"{tally.frames} frames"
            why = f"{words} in this, none in the other"
            score = surprise(tally.frames)
            yield Difference(key, buses.name(key), "only_in_a", words, "—", score, why, time_a=tally.first)
    for there, tally in b.census.items():
        key = buses.to_a(there)
        if key not in a.census:
            words = f"{tally.frames} frames"
            why = f"{words} in the other, none in this"
            score = surprise(tally.frames)
            yield Difference(key, buses.name(key), "only_in_b", "—", words, score, why, time_b=tally.first)
    for key, _, one, other in common(both):
        yield from _cycles(both, key, one, other)
        sizes = (one.size, other.size)
        if sizes[0] != sizes[1] and all(sizes):
            why = f"payloads have {sizes[0]} bytes in this and {sizes[1]} in the other"
            yield Difference(key, buses.name(key), "length", f"{sizes[0]} bytes", f"{sizes[1]} bytes", 0.9, why)


def _cycles(both: Both, key: int, one: Tally, other: Tally) -> Iterator[Difference]:
    x, y = describe_tally(one, both.a.span.end), describe_tally(other, both.b.span.end)
    bus = both.buses.name(key)
    if "too few" in (x.state, y.state) or not x.usual or not y.usual:
        return
    ratio = y.usual / x.usual
    spread = max(x.p95 - x.usual, y.p95 - y.usual, 0.0) / x.usual
    if abs(log(ratio)) > 0.03 + 2 * min(spread, 0.5):
        words = (f"{x.usual / 1e6:.2f} ms", f"{y.usual / 1e6:.2f} ms")
        why = f"sent {'less' if ratio > 1 else 'more'} often in the other: every {words[1]} instead of {words[0]}"
        yield Difference(key, bus, "cycle", *words, surprise(20 * abs(log(ratio))), why)
    for here, there, left in ((x, y, True), (y, x, False)):
        if here.gap > 3 * max(there.gap, there.p99) and here.gap > 5 * here.usual:
            words = (f"{x.gap / 1e6:.1f} ms", f"{y.gap / 1e6:.1f} ms")
            long = here.gap / here.usual
            why = f"a silence of {here.gap / 1e6:.0f} ms in {'this' if left else 'the other'}, {long:.0f} cycles long"
            at_a, at_b = (here.gap_at, None) if left else (None, here.gap_at)
            score = surprise(2 * log(long))
            yield Difference(key, bus, "gap", *words, score, why, time_a=at_a, time_b=at_b)


def _loads(both: Both) -> Iterator[Difference]:
    ours, means = (bus_means(side.matches, side.span) for side in (both.a, both.b))
    for place, partner in enumerate(both.buses.partners):
        mine, theirs = ours[partner].mean if partner is not None else None, means[place].mean
        if partner is None or not mine or not theirs:
            continue
        bus = both.buses.a[partner]
        change = theirs - mine
        if abs(change) > 0.004 and abs(change) > 0.05 * mine:
            words = (f"{mine:.1%}", f"{theirs:.1%}")
            way = "higher" if change > 0 else "lower"
            why = f"the load of bus {bus} is {abs(change) * 100:.1f} points {way} in the other"
            yield Difference(None, bus, "load", *words, surprise(12 * abs(change) / mine), why)


def _faults(both: Both) -> Iterator[Difference]:
    a, b = both.a, both.b
    mine, theirs = (
        {c.fault: c for c in classes(side.matches, max(side.span.end - side.span.start, 1))} for side in (a, b)
    )
    minutes = [max(s.span.end - s.span.start, 1) / 60e9 for s in (a, b)]
    for fault in sorted(set(mine) | set(theirs)):
        x, y = mine.get(fault), theirs.get(fault)
        counts = [c.count if c else 0 for c in (x, y)]
        # As many as both together would have, if they were alike.
        rate = sum(counts) / sum(minutes)
        nats = sum(n * log(n / (rate * m)) for n, m in zip(counts, minutes, strict=True) if n)
        words = [f"{n} ({n / m:.1f} a minute)" if n else "none" for n, m in zip(counts, minutes, strict=True)]
        worst = (y or x).worst_key if (y or x) else None  # type: ignore[union-attr]
        key = worst if worst is None or y is None else both.buses.to_a(worst)
        why = f"{fault.title}: {words[0]} in this, {words[1]} in the other"
        times = (x.first_time if x else None, y.first_time if y else None)
        yield Difference(key, "", "faults", words[0], words[1], surprise(nats), why, time_a=times[0], time_b=times[1])


def _checks(both: Both) -> Iterator[Difference]:
    sides = (both.a, both.b)
    texts = list(dict.fromkeys(text for side in sides for text in side.snapshot.manifest.checks))
    if not texts:
        return
    said = {True: "passed", False: "failed", None: "unsaid"}
    for one, other in zip(*(run_checks(texts, s.snapshot, s.span) for s in sides), strict=True):
        if one.passed is not other.passed:
            words = [f"{said[v.passed]}: {v.figure}" for v in (one, other)]
            why = f"{one.text}: {said[one.passed]} in this, {said[other.passed]} in the other"
            yield Difference(one.key, "", "check", words[0], words[1], 0.95, why, time_a=one.at, time_b=other.at)


def _moves(both: Both) -> Iterator[Difference]:
    for key, there, one, other in common(both):
        x, y = both.a.flips.get(key), both.b.flips.get(there)
        if x is None or y is None or one.size != other.size:
            continue
        frames = (max(one.good, 1), max(other.good, 1))
        bits = len(one.payload) * 8
        yield from _moved(both, key, x, y, frames, bits, "stopped_moving")
        yield from _moved(both, key, y, x, frames[::-1], bits, "started_moving")


def _moved(
    both: Both, key: int, moving: Rows, still: Rows, frames: tuple[int, int], bits: int, kind: str
) -> Iterator[Difference]:
    """Bits that move on one side and never on the other, neighbours together; ``moving`` is of frames[0] frames."""
    expected = moving / frames[0] * frames[1]
    lost = np.flatnonzero((moving[:bits] >= MOVED) & (still[:bits] == 0) & (expected[:bits] >= 2))
    if not len(lost):
        return
    message = message_of(both, key)
    for run in np.split(lost, np.flatnonzero(np.diff(lost) > 1) + 1):
        low, high = int(run[0]), int(run[-1])
        field = BitField(low, high - low + 1)
        signal = signal_over(message, field)
        flips, rate = int(moving[run].max()), float(expected[run].max())
        words = (f"up to {flips} flips", "still") if kind == "stopped_moving" else ("still", f"up to {flips} flips")
        where = f"bit {low}" if low == high else f"bits {low}–{high}"
        where = f"{signal} ({where})" if signal else where
        why = f"{where} of {key_words(key)} {'stopped' if kind == 'stopped_moving' else 'began'} moving in the other"
        yield Difference(key, both.buses.name(key), kind, *words, surprise(rate / 2), why, signal, field)


def _values(both: Both) -> Iterator[Difference]:
    a, b = both.a, both.b
    courses_a, courses_b = Courses(), Courses()
    for key, there, _, _ in common(both):
        message = message_of(both, key)
        if message is None:
            continue
        for signal in message.signals:
            if signal.role in ("counter", "checksum", "constant"):
                continue
            x = courses_a.course(a.matches, key, message, signal, a.span, 1)
            y = courses_b.course(b.matches, there, message, signal, b.span, 1)
            yield from _of_signal(both, key, there, message, signal, x, y)


def _of_signal(
    both: Both, key: int, there: int, message: Message, signal: Signal, x: Course, y: Course
) -> Iterator[Difference]:
    a, b, bus = both.a, both.b, both.buses.name(key)
    for missing_a, missing_b, word in ((x.absent, y.absent, "not available"), (x.wrong, y.wrong, "error")):
        shares = [m / max(m + c.count, 1) for m, c in ((missing_a, x), (missing_b, y))]
        if abs(shares[0] - shares[1]) > 1e-9 and bool(missing_a) != bool(missing_b):
            words = [f"{share:.2%}" if share else "never" for share in shares]
            why = f"{signal.name} says “{word}” in {words[0]} of its frames in this, {words[1]} in the other"
            nats = 2.0 * max(missing_a, missing_b)
            yield Difference(key, bus, "not_available", words[0], words[1], surprise(nats), why, signal.name)
    if x.least is None or y.least is None or x.most is None or y.most is None:
        return
    if signal.texts:
        states = [_states(side, k, message, signal) for side, k in ((a, key), (b, there))]
        for raw in sorted(set(states[0]) ^ set(states[1])):
            times = [s[raw][0] if raw in s else None for s in states]
            counts = [s[raw][1] if raw in s else 0 for s in states]
            text = signal.texts.get(raw, str(raw))
            side = "this" if raw in states[0] else "the other"
            why = f"{signal.name} is “{text}” only in {side}"
            words = [f"{n} frames" if n else "never" for n in counts]
            yield Difference(
                key, bus, "state", words[0], words[1], surprise(3 + log(max(counts))), why, signal.name,
                time_a=times[0], time_b=times[1],
            )  # fmt: skip
        return
    reach = max(x.most - x.least, abs(signal.scale))
    beyond = max(x.least - y.least, y.most - x.most, 0.0)
    within = max(y.least - x.least, x.most - y.most, 0.0)
    if max(beyond, within) <= 0.1 * max(reach, y.most - y.least):
        return
    words = [f"{signal.number_words(c.least or 0.0)}..{signal.number_words(c.most or 0.0)}" for c in (x, y)]
    share = (beyond / reach) if beyond > 0 else within / reach / 2
    columns = 400
    one = Courses().envelope(a.matches, key, message, signal, a.span, columns)
    other = Courses().envelope(b.matches, there, message, signal, b.span, columns)
    times = [_farthest(one, other), _farthest(other, one)]
    why = f"{signal.name} goes from {words[0]} {signal.unit} in this, from {words[1]} in the other".replace("  ", " ")
    yield Difference(
        key, bus, "range", words[0], words[1], surprise(3 * min(share, 4.0)), why, signal.name,
        time_a=times[0], time_b=times[1],
    )  # fmt: skip


def _farthest(of: Envelope, beyond: Envelope) -> int | None:
    """When a signal goes farthest beyond what it does on the other side; None if it never does."""
    over = np.nan_to_num(of.most - np.nanmax(beyond.most), nan=-1.0)
    under = np.nan_to_num(np.nanmin(beyond.least) - of.least, nan=-1.0)
    beyond_by = np.maximum(over, under)
    at = int(beyond_by.argmax())
    return int(of.edges[at]) if beyond_by[at] > 0 else None


def _states(side: Side, key: int, message: Message, signal: Signal) -> dict[int, tuple[int, int]]:
    """The raw values a signal has: when each was first, and in how many frames."""
    found: dict[int, tuple[int, int]] = {}
    for part in side.matches.parts:
        for one, rows in part.each_run() if part.count else ():
            if one != key:
                continue
            batch = part.chunk.batch
            at = np.arange(rows.start, rows.stop) if isinstance(rows, slice) else rows
            decoded = decode_rows(message, signal, batch, at[batch.is_sound(at)])
            values, first, counts = np.unique(decoded.raw, return_index=True, return_counts=True)
            for raw, i, n in zip(values.tolist(), first.tolist(), counts.tolist(), strict=True):
                time = int(batch.time[decoded.rows[i]])
                old = found.get(raw)
                found[raw] = (time, n) if old is None else (min(old[0], time), old[1] + n)
    return found
