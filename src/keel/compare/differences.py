"""What is different between two sides, each with how much it says and where to look."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from math import exp, log

import numpy as np

from keel.compare.sides import Alignment, Side
from keel.measure.census import Tally
from keel.measure.checks import run_checks
from keel.measure.courses import Course, Courses, Envelope
from keel.measure.cycles import describe_tally
from keel.measure.faults import classes
from keel.measure.flips import flips_by_key
from keel.measure.load import bus_means
from keel.model.fields import BitField
from keel.model.frames import Rows
from keel.model.identity import key_words
from keel.signals.dictionary import Message, joined
from keel.signals.reading import decode_rows
from keel.signals.signal import Signal

KINDS = (
    "only_in_a", "only_in_b", "cycle", "gap", "load", "length", "stopped_moving", "started_moving", "range", "state",
    "not_available", "faults", "check",
)  # fmt: skip
"""Kinds of difference."""
LEAST_SCORE = 0.1
MOVED = 3
"""A bit that flipped so often moves."""
EXPECTED_NATS = 6.0
MOST_ALIKE = 3
"""So many more signals of one message with one kind of difference are told in one line."""


@dataclass(frozen=True)
class Difference:
    """One difference.

    Attributes:
        key: The identifier, as the first side knows it; None if it concerns a bus or all.
        bus: The bus it is on; empty for all.
        kind: One of `KINDS`.
        a, b: What each side says, in words.
        score: How much it says, 0 to 1.
        why: A sentence.
        signal: Which signal, if one.
        field: Which bits, if some.
        time_a, time_b: Where to look on each side, in ns; None if there is no such place.
    """

    key: int | None
    bus: str
    kind: str
    a: str
    b: str
    score: float
    why: str
    signal: str = ""
    field: BitField | None = None
    time_a: int | None = None
    time_b: int | None = None


@dataclass(frozen=True, eq=False)
class Comparison:
    """Two sides, how they are aligned, and what is different, most telling first."""

    a: Side
    b: Side
    alignment: Alignment
    differences: tuple[Difference, ...]

    def name(self, key: int | None) -> str:
        """The message name of an identifier, as either side knows it."""
        if key is None:
            return ""
        message = message_of(self.a, self.b, key)
        return message.name if message else ""


def compare(a: Side, b: Side, alignment: Alignment, cancelled: Callable[[], bool] = lambda: False) -> Comparison:
    """Everything that is different. ``cancelled`` is asked between kinds; then the answer holds what was found."""
    found: list[Difference] = []
    for look in (_identifiers, _loads, _faults, _checks, _moves, _values):
        if cancelled():
            break
        found += look(a, b)
    kept = [d for d in found if d.score >= LEAST_SCORE]
    kept.sort(key=lambda d: (-d.score, KINDS.index(d.kind), d.bus, d.key or 0))
    return Comparison(a, b, alignment, tuple(_gathered(kept)))


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


def _surprise(nats: float) -> float:
    return round(1 - exp(-max(nats, 0.0) / EXPECTED_NATS), 4)


def message_of(a: Side, b: Side, key: int) -> Message | None:
    """What both sides' dictionaries know of an identifier, named as the first side does."""
    there = b.key_here(key, a)
    mine = a.snapshot.book.message(key)
    theirs = b.snapshot.book.message(there) if there is not None else None
    if mine is None or theirs is None:
        return mine or theirs
    return joined(mine, theirs)


def _common(a: Side, b: Side) -> Iterator[tuple[int, Tally, Tally]]:
    for key, tally in a.census.items():
        there = b.key_here(key, a)
        if there is not None and there in b.census:
            yield key, tally, b.census[there]


def _identifiers(a: Side, b: Side) -> Iterator[Difference]:
    for key, tally in a.census.items():
        there = b.key_here(key, a)
        if there is None or there not in b.census:
            words = f"{tally.frames} frames"
            why = f"{words} in A, none in B"
            score = _surprise(tally.frames)
            yield Difference(key, a.bus(key), "only_in_a", words, "—", score, why, time_a=tally.first)
    for key, tally in b.census.items():
        here = a.key_here(key, b)
        if here is None or here not in a.census:
            shown = here if here is not None else (len(a.snapshot.manifest.buses) << 56 | key & (1 << 56) - 1)
            words = f"{tally.frames} frames"
            why = f"{words} in B, none in A"
            score = _surprise(tally.frames)
            yield Difference(shown, b.bus(key), "only_in_b", "—", words, score, why, time_b=tally.first)
    for key, one, other in _common(a, b):
        yield from _cycles(a, b, key, one, other)
        sizes = (len(one.payload), len(other.payload))
        if sizes[0] != sizes[1] and all(sizes):
            why = f"payloads have {sizes[0]} bytes in A and {sizes[1]} in B"
            yield Difference(key, a.bus(key), "length", f"{sizes[0]} bytes", f"{sizes[1]} bytes", 0.9, why)


def _cycles(a: Side, b: Side, key: int, one: Tally, other: Tally) -> Iterator[Difference]:
    x, y = describe_tally(one, a.span.end), describe_tally(other, b.span.end)
    if "too few" in (x.state, y.state) or not x.usual or not y.usual:
        return
    ratio = y.usual / x.usual
    spread = max(x.p95 - x.usual, y.p95 - y.usual, 0.0) / x.usual
    if abs(log(ratio)) > 0.03 + 2 * min(spread, 0.5):
        words = (f"{x.usual / 1e6:.2f} ms", f"{y.usual / 1e6:.2f} ms")
        why = f"sent {'less' if ratio > 1 else 'more'} often in B: every {words[1]} instead of {words[0]}"
        yield Difference(key, a.bus(key), "cycle", *words, _surprise(20 * abs(log(ratio))), why)
    for here, there, left in ((x, y, True), (y, x, False)):
        if here.gap > 3 * max(there.gap, there.p99) and here.gap > 5 * here.usual:
            words = (f"{x.gap / 1e6:.1f} ms", f"{y.gap / 1e6:.1f} ms")
            long = here.gap / here.usual
            why = f"a silence of {here.gap / 1e6:.0f} ms in {'A' if left else 'B'}, {long:.0f} cycles long"
            at_a, at_b = (here.gap_at, None) if left else (None, here.gap_at)
            score = _surprise(2 * log(long))
            yield Difference(key, a.bus(key), "gap", *words, score, why, time_a=at_a, time_b=at_b)


def _loads(a: Side, b: Side) -> Iterator[Difference]:
    means = dict(zip(b.snapshot.manifest.bus_names, bus_means(b.matches, b.span), strict=True))
    for bus, mine in zip(a.snapshot.manifest.bus_names, bus_means(a.matches, a.span), strict=True):
        theirs = means.get(bus)
        if theirs is None or not mine.mean or not theirs.mean:
            continue
        change = theirs.mean - mine.mean
        if abs(change) > 0.004 and abs(change) > 0.05 * mine.mean:
            words = (f"{mine.mean:.1%}", f"{theirs.mean:.1%}")
            why = f"the load of bus {bus} is {abs(change) * 100:.1f} points {'higher' if change > 0 else 'lower'} in B"
            yield Difference(None, bus, "load", *words, _surprise(12 * abs(change) / mine.mean), why)


def _faults(a: Side, b: Side) -> Iterator[Difference]:
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
        key = worst if worst is None or y is None else a.key_here(worst, b)
        why = f"{fault.title}: {words[0]} in A, {words[1]} in B"
        times = (x.first_time if x else None, y.first_time if y else None)
        yield Difference(key, "", "faults", words[0], words[1], _surprise(nats), why, time_a=times[0], time_b=times[1])


def _checks(a: Side, b: Side) -> Iterator[Difference]:
    texts = list(dict.fromkeys([*a.snapshot.manifest.checks, *b.snapshot.manifest.checks]))
    if not texts:
        return
    said = {True: "passed", False: "failed", None: "unsaid"}
    for one, other in zip(*(run_checks(texts, s.snapshot, s.span) for s in (a, b)), strict=True):
        if one.passed is not other.passed:
            words = [f"{said[v.passed]}: {v.figure}" for v in (one, other)]
            why = f"{one.text}: {said[one.passed]} in A, {said[other.passed]} in B"
            yield Difference(one.key, "", "check", words[0], words[1], 0.95, why, time_a=one.at, time_b=other.at)


def _moves(a: Side, b: Side) -> Iterator[Difference]:
    mine, theirs = flips_by_key(a.matches), flips_by_key(b.matches)
    for key, one, other in _common(a, b):
        there = b.key_here(key, a)
        if key not in mine or there not in theirs or len(one.payload) != len(other.payload):
            continue
        x, y = mine[key], theirs[there]
        frames = (max(one.frames - one.faults, 1), max(other.frames - other.faults, 1))
        bits = len(one.payload) * 8
        yield from _moved(a, b, key, x, y, frames, bits, "stopped_moving")
        yield from _moved(a, b, key, y, x, frames[::-1], bits, "started_moving")


def _moved(
    a: Side, b: Side, key: int, moving: Rows, still: Rows, frames: tuple[int, int], bits: int, kind: str
) -> Iterator[Difference]:
    """Bits that move on one side and never on the other, neighbours together; ``moving`` is of frames[0] frames."""
    expected = moving / frames[0] * frames[1]
    lost = np.flatnonzero((moving[:bits] >= MOVED) & (still[:bits] == 0) & (expected[:bits] >= 2))
    if not len(lost):
        return
    message = message_of(a, b, key)
    for run in np.split(lost, np.flatnonzero(np.diff(lost) > 1) + 1):
        low, high = int(run[0]), int(run[-1])
        field = BitField(low, high - low + 1)
        signal = _signal_over(message, field)
        flips, rate = int(moving[run].max()), float(expected[run].max())
        words = (f"up to {flips} flips", "still") if kind == "stopped_moving" else ("still", f"up to {flips} flips")
        where = f"bit {low}" if low == high else f"bits {low}–{high}"
        where = f"{signal} ({where})" if signal else where
        why = f"{where} of {key_words(key)} {'stopped' if kind == 'stopped_moving' else 'began'} moving in B"
        yield Difference(key, a.bus(key), kind, *words, _surprise(rate / 2), why, signal, field)


def _signal_over(message: Message | None, field: BitField) -> str:
    bits = set(field.bits)
    for signal in message.signals if message else ():
        if bits & set(signal.field.bits):
            return signal.name
    return ""


def _values(a: Side, b: Side) -> Iterator[Difference]:
    courses_a, courses_b = Courses(), Courses()
    for key, _, _ in _common(a, b):
        message = message_of(a, b, key)
        there = b.key_here(key, a)
        if message is None or there is None:
            continue
        for signal in message.signals:
            if signal.role in ("counter", "checksum", "constant"):
                continue
            x = courses_a.course(a.matches, key, message, signal, a.span, 1)
            y = courses_b.course(b.matches, there, message, signal, b.span, 1)
            yield from _of_signal(a, b, key, there, message, signal, x, y)


def _of_signal(
    a: Side, b: Side, key: int, there: int, message: Message, signal: Signal, x: Course, y: Course
) -> Iterator[Difference]:
    bus = a.bus(key)
    for missing_a, missing_b, word in ((x.absent, y.absent, "not available"), (x.wrong, y.wrong, "error")):
        shares = [m / max(m + c.count, 1) for m, c in ((missing_a, x), (missing_b, y))]
        if abs(shares[0] - shares[1]) > 1e-9 and bool(missing_a) != bool(missing_b):
            words = [f"{share:.2%}" if share else "never" for share in shares]
            why = f"{signal.name} says “{word}” in {words[1]} of its frames in B, {words[0]} in A"
            nats = 2.0 * max(missing_a, missing_b)
            yield Difference(key, bus, "not_available", words[0], words[1], _surprise(nats), why, signal.name)
    if x.least is None or y.least is None or x.most is None or y.most is None:
        return
    if signal.texts:
        states = [_states(side, k, message, signal) for side, k in ((a, key), (b, there))]
        for raw in sorted(set(states[0]) ^ set(states[1])):
            times = [s[raw][0] if raw in s else None for s in states]
            counts = [s[raw][1] if raw in s else 0 for s in states]
            text = signal.texts.get(raw, str(raw))
            side = "A" if raw in states[0] else "B"
            why = f"{signal.name} is “{text}” only in {side}"
            words = [f"{n} frames" if n else "never" for n in counts]
            yield Difference(
                key, bus, "state", words[0], words[1], _surprise(3 + log(max(counts))), why, signal.name,
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
    why = f"{signal.name} goes from {words[1]} {signal.unit} in B, from {words[0]} in A".replace("  ", " ")
    yield Difference(
        key, bus, "range", words[0], words[1], _surprise(3 * min(share, 4.0)), why, signal.name,
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
            decoded = decode_rows(message, signal, batch, at[batch.faults[at] == 0])
            values, first, counts = np.unique(decoded.raw, return_index=True, return_counts=True)
            for raw, i, n in zip(values.tolist(), first.tolist(), counts.tolist(), strict=True):
                time = int(batch.time[decoded.rows[i]])
                old = found.get(raw)
                found[raw] = (time, n) if old is None else (min(old[0], time), old[1] + n)
    return found
