"""SPI: a clock, data both ways, selects; which edge of the clock takes the data is found by when the data changes.

There is no standard: modes are numbered by clock polarity (2) and phase (1), as data sheets of the trade have them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.clocked import (
    ClockedCode,
    Wire,
    Wires,
    clocked_share,
    edges_to,
    frequency,
    known_edges,
    known_stretches,
    levels_before,
    over,
    unknown_at,
    wire,
)
from keel.lines.code import Asked, Field, Guess, How
from keel.lines.code_uart import gap_ns
from keel.lines.evidence import Evidence, certainty, different_frames
from keel.lines.framing import frames_of
from keel.lines.pulses import idle_level
from keel.media.spi import IN, OUT
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, Times, concat, empty_batch
from keel.model.waveform import Logic

PAUSE_PERIODS, A_JUMP = 2.5, 3.0
"""A pause of so many periods may end a transfer; pauses fall in two kinds where the longer are so many times longer."""
MOSTLY, LONGEST_WORD = 0.9, 32
A_PART, IN_ONE_PHASE = 0.01, 0.8
"""Data belongs to a clock where such a share of its changes follows edges of one direction."""
ORDERS = ("msb", "lsb")


@dataclass(frozen=True)
class Mode:
    """How data is taken: the level at which the clock rests, and whether by an edge that rises. ``sure`` is the share
    of the data's changes that say so, 0 where there are none; ``changes`` is how many there are."""

    polarity: int
    rising: bool
    sure: float
    changes: int = 0

    @property
    def number(self) -> int:
        """From 0 to 3: polarity and phase."""
        return 2 * self.polarity + int(self.rising == bool(self.polarity))


@dataclass(frozen=True, eq=False)
class Transfers:
    """When transfers begin and end, in ns, and the number of each one's select; all of shape (n,)."""

    starts: Times
    ends: Times
    selects: Any

    def __len__(self) -> int:
        return len(self.starts)


def transfers_of(wires: Wires, clock: Logic, pause_ns: float) -> Transfers:
    """The transfers of a known stretch: what is selected from begin to end, else runs of the clock."""
    selects = [one.logic for one in wires if one.role == "select" and len(one.logic.edges)]
    if not selects:
        if not len(clock.edges):
            none = np.zeros(0, np.int64)
            return Transfers(none, none, none)
        breaks = np.flatnonzero(np.diff(clock.edges) > pause_ns)
        starts = clock.edges[np.concatenate([[0], breaks + 1])]
        ends = clock.edges[np.concatenate([breaks, [len(clock.edges) - 1]])]
        return Transfers(starts, ends, np.zeros(len(starts), np.int64))
    parts = []
    for number, one in enumerate(w.logic for w in wires if w.role == "select"):
        active = _active(one, clock, len(selects) == 1)
        begins, stops = edges_to(one, active), edges_to(one, 1 - active)
        # What is cut by the begin or the end of the stretch is none.
        stops = stops[np.searchsorted(stops, begins[0]) :] if len(begins) else stops[:0]
        count = min(len(begins), len(stops))
        parts.append((begins[:count], stops[:count], np.full(count, number)))
    starts, ends, which = (np.concatenate([part[k] for part in parts]) for k in range(3))
    order = np.argsort(starts, kind="stable")
    return Transfers(starts[order], ends[order], which[order])


def _active(select: Logic, clock: Logic, is_alone: bool) -> int:
    """The level at which a select selects: of the only one, that at which the clock goes."""
    if not is_alone or not len(clock.edges):
        return 1 - idle_level(select)
    return int(2 * int(levels_before(select, clock.edges).sum()) > len(clock.edges))


def mode_of(clock: Logic, data: Sequence[Logic], rests: int) -> Mode:
    """How data is taken, by the edges of the clock that it follows."""
    rising = falling = 0
    for one in data:
        after_rise = follows_rise(clock, one)
        rising, falling = rising + int(after_rise.sum()), falling + int((~after_rise).sum())
    if not rising + falling:
        return Mode(rests, rests == 0, 0.0, 0)
    # Data changes with one edge and is taken with the other.
    count = rising + falling
    return Mode(rests, falling >= rising, max(rising, falling) / count, count)


def follows_rise(clock: Logic, data: Logic) -> Any:
    """Whether each change of data comes with an edge of the clock that rises; changes while the clock rests left out.

    Both may change at once, and then an instrument sees either first: what comes a little before an edge comes with it.
    """
    edges = clock.edges
    if len(edges) < 2:
        return np.zeros(0, np.bool_)
    half = float(np.median(np.diff(edges)))
    times = known_edges(data) + round(max(EARLY * half, min(clock.grain, half / 2)))
    place = np.searchsorted(edges, times, side="right")
    place = place[(place > 0) & (place < len(edges))]
    goes = edges[place] - edges[place - 1] < A_REST * half
    # After an odd number of edges the clock is at the other level than at first.
    return ((clock.first + place[goes]) & 1).astype(bool)


EARLY, A_REST = 0.25, 3.0
"""In halves of a period: data that changes so little before an edge changes with it; and a clock rests for longer."""


def word_of(counts: Any) -> int:
    """How many bits a word seems to have, by how many each transfer has."""
    counts = counts[counts > 0]
    if not len(counts) or float((counts % 8 == 0).mean()) >= MOSTLY:
        return 8
    fitting = [size for size in range(LONGEST_WORD, 3, -1) if float((counts % size == 0).mean()) >= MOSTLY]
    return fitting[0] if fitting else 8


def _gap(clock: Logic, asked: Asked, period: float) -> float:
    """Which pause of the clock ends a transfer where nothing selects."""
    if "gap" in asked.settings:
        return float(gap_ns(asked.settings["gap"]))
    gaps = np.sort(np.diff(clock.edges))
    gaps = gaps[gaps > PAUSE_PERIODS * period].astype(np.float64)
    if len(gaps) > 1:
        jumps = gaps[1:] / gaps[:-1]
        at = int(jumps.argmax())
        if jumps[at] >= A_JUMP:
            return float(np.sqrt(gaps[at] * gaps[at + 1]))
    return PAUSE_PERIODS * period


def _number(asked: Asked, name: str, low: int, high: int) -> int | None:
    text = asked.settings.get(name)
    if text is None:
        return None
    if not text.isdecimal() or not low <= int(text) <= high:
        raise InputError("--set", f"{name}={text}", f"{low} to {high}")
    return int(text)


def read(wires: Wires, asked: Asked) -> list[Guess]:
    """A line read as SPI."""
    clock = wire(wires, "clock")
    data = [one for one in wires if one.role in ("out", "in")]
    order = asked.settings.get("order", ORDERS[0]).lower()
    if order not in ORDERS:
        raise InputError("--set", f"order={order}", " or ".join(ORDERS))
    asked_mode, asked_word = _number(asked, "mode", 0, 3), _number(asked, "word", 1, LONGEST_WORD)
    rate = frequency(clock) if clock is not None else 0.0
    if clock is None or not data or not rate:
        return []
    gap = _gap(clock, asked, 1e9 / rate)
    parts = list(known_stretches(wires))
    moves = [_inside(part, gap) for part in parts]
    begins = np.concatenate([[int(_part(p).level_at(int(t) - 1)) for t in m.starts[:1000]] for p, m in moves] or [[]])
    rests = int(2 * begins.sum() > len(begins))
    mode = mode_of(clock, [one.logic for one in data], rests)
    if asked_mode is not None:
        mode = Mode(asked_mode >> 1, (asked_mode >> 1 == 1) == bool(asked_mode & 1), 1.0, mode.changes)
    counts = np.concatenate([_bit_counts(part, move, mode)[0] for part, move in moves] or [np.zeros(0, np.int64)])
    word = asked_word or word_of(counts)
    frames = [_frames(part, move, mode, word, order) for part, move in moves]
    whole = concat([one for one in frames if len(one)] or [empty_batch()])
    if not len(whole):
        return []
    good = whole.faults == 0
    assert whole.duration is not None
    share = clocked_share(clock, whole.time[good], (whole.time + whole.duration)[good])
    has_select = any(one.role == "select" and len(one.logic.edges) for one in wires)
    settings = {"mode": mode.number, "word": word, "order": order, "select": "yes" if has_select else "no"}
    settings |= {} if has_select else {"gap": f"{gap / 1e6:g}ms"}
    bus = Bus("", round(asked.rate or rate), medium="spi", stamp="start", assumed=False)
    faulty = int((~good).sum())
    how = {"rate": rate, "gap": gap, "rising": float(mode.rising)}
    inside = clocked_share(clock, whole.time, whole.time + whole.duration)
    said = _said(mode, word, asked, int((counts == 0).sum()), 1 - inside)
    evidence = _evidence(mode, counts, whole, has_select)
    return [Guess("spi", rate, None, False, settings, whole, bus, share, evidence, "", faulty, said, how)]


MOST_CHANGES, A_CHANGE, A_TRANSFER, BY_SELECT = 64, 0.5, 3.0, 2.0
"""So many changes of data are counted, each for so many bits: half of them are no news where data repeats. A transfer
of whole bytes foretells three bits, one that a select frames some more."""


def _evidence(mode: Mode, counts: Any, frames: FrameBatch, has_select: bool) -> Evidence:
    """What speaks for transfers: data that changes with one edge of the clock alone, and whole bytes."""
    changes = min(mode.changes, MOST_CHANGES) * A_CHANGE * certainty(1 - mode.sure if mode.changes else 0.5)
    counts = counts[counts > 0]
    whole = certainty(float((counts % 8 != 0).mean())) if len(counts) else 0.0
    each = A_TRANSFER + (BY_SELECT if has_select else 0.0)
    return Evidence(changes + max(different_frames(frames) - 1, 0) * each * whole, 4.0)


def _part(wires: Wires) -> Logic:
    clock = wire(wires, "clock")
    assert clock is not None
    return clock


def _inside(wires: Wires, gap: float) -> tuple[Wires, Transfers]:
    return wires, transfers_of(wires, _part(wires), gap)


def _bit_counts(wires: Wires, moves: Transfers, mode: Mode) -> tuple[Any, Times, Any]:
    """How many bits each transfer has, when each bit is taken, and the first one of each transfer."""
    taken = edges_to(_part(wires), int(mode.rising))
    first = np.searchsorted(taken, moves.starts, side="left")
    last = np.searchsorted(taken, moves.ends, side="right")
    return last - first, taken, first


def _said(mode: Mode, word: int, asked: Asked, empty: int, outside: float) -> tuple[str, ...]:
    said = []
    if outside > A_PART:
        said.append(f"{outside:.0%} of the clock lies where nothing is selected: for a device whose select is not here")
    if not mode.sure:
        said.append("no data changes: the mode cannot be told by it")
    elif mode.sure < IN_ONE_PHASE:
        said.append(f"{mode.sure:.0%} of the changes of data are with one edge of the clock: the mode is in doubt")
    if "order" not in asked.settings:
        said.append("which bit comes first cannot be told: msb was taken")
    if "word" not in asked.settings:
        said.append(f"words of {word} bits were taken, by how many the transfers have")
    if empty:
        said.append(f"{empty:,} times it was selected without a clock: no frame")
    return tuple(said)


def _frames(wires: Wires, moves: Transfers, mode: Mode, word: int, order: str) -> FrameBatch:
    """A frame a transfer and direction."""
    counts, taken, first = _bit_counts(wires, moves, mode)
    kept = counts > 0
    counts, first = counts[kept], first[kept]
    starts, ends, selects = moves.starts[kept], moves.ends[kept], moves.selects[kept]
    words, size = counts // word, -(-word // 8)
    which = np.repeat(np.arange(len(counts)), words)
    offsets = np.concatenate([[0], np.cumsum(words)])
    at = first[which] + (np.arange(offsets[-1]) - offsets[which]) * word
    faults = np.where(counts % word != 0, np.uint32(Fault.LENGTH), np.uint32(0))
    batches = []
    for role, form, flags in (("out", OUT, int(Flag.TX)), ("in", IN, 0)):
        logic = wire(wires, role)
        if logic is None:
            continue
        bits = levels_before(logic, taken)
        lost = unknown_at(logic, taken)
        if not lost.any():
            data = _bytes(bits, at, word, size, order)
            batches.append(
                frames_of(starts.copy(), ends, form.number, selects, offsets * size, data, faults.copy(), flags)
            )
            continue
        # What nobody drives says nothing: a frame has the words before it, and says that it is cut.
        driven = _driven(lost, first, counts)
        here = driven > 0
        few, at_each = driven[here] // word, first[here]
        which_of = np.repeat(np.arange(len(few)), few)
        ends_at = np.concatenate([[0], np.cumsum(few)])
        places = at_each[which_of] + (np.arange(ends_at[-1]) - ends_at[which_of]) * word
        wrong = np.where((driven != counts) | (counts % word != 0), np.uint32(Fault.LENGTH), np.uint32(0))[here]
        data = _bytes(bits, places, word, size, order)
        batches.append(
            frames_of(starts[here], ends[here], form.number, selects[here], ends_at * size, data, wrong, flags)
        )
    both = concat(batches) if len(counts) else empty_batch()
    return both.take(np.argsort(both.time, kind="stable"))


def _driven(lost: Any, first: Any, counts: Any) -> Any:
    """How many bits of each transfer are known, up to the first that is not; shape (n,)."""
    place = np.append(np.flatnonzero(lost), len(lost) + int(counts.max(initial=0)))
    until = place[np.searchsorted(place, first)]
    return np.minimum(until - first, counts)


def _bytes(bits: Any, at: Any, word: int, size: int, order: str) -> Any:
    """The words that begin at some bits as bytes, big-endian."""
    value = np.zeros(len(at), np.uint32)
    for place in range(word):
        shift = word - 1 - place if order == "msb" else place
        value |= bits[at + place].astype(np.uint32) << np.uint32(shift)
    return value.astype(">u4").view(np.uint8).reshape(-1, 4)[:, 4 - size :].ravel()


def explain(wires: Wires, how: How, start: int, end: int, form: int) -> list[Field]:
    """Each word over its bits, and what is left over."""
    half = round(5e8 / how.numbers["rate"])
    part: list[Wire] = over(wires, start - half, end + half)
    logic = wire(part, "out" if form == OUT.number else "in")
    if logic is None:
        return []
    clock = _part(part)
    taken = edges_to(clock, int(how.numbers["rising"]))
    taken = taken[(taken >= start) & (taken <= end)]
    if not len(taken):
        return []
    bits = levels_before(logic, taken).tolist()
    # A bit begins where the clock changed before it was taken.
    place = np.maximum(np.searchsorted(clock.edges, taken) - 1, 0)
    near = np.where(clock.edges[place] < taken, np.maximum(clock.edges[place], taken - 2 * half), taken - half)
    begins = [max(int(one), start) for one in near]
    begins.append(min(int(taken[-1]) + half, max(end, begins[-1] + 1)))
    word, order = int(how.settings.get("word", 8)), str(how.settings.get("order", "msb"))
    fields = []
    for number in range(len(bits) // word):
        mine = bits[number * word : (number + 1) * word]
        value = int("".join(map(str, mine if order == "msb" else mine[::-1])), 2)
        raw = value.to_bytes(-(-word // 8), "big")
        fields.append(Field("word", begins[number * word], begins[(number + 1) * word], value, raw.hex().upper(),
                            None, raw))  # fmt: skip
    rest = len(bits) % word
    if rest:
        text = "".join(map(str, bits[-rest:]))
        fields.append(Field("bits", begins[-1 - rest], begins[-1], None, text, Fault.LENGTH.word))
    return fields


SPI = ClockedCode(
    "spi",
    "SPI",
    ("clock", "select", "out", "in"),
    {
        "clock": ("sck", "sclk", "clk", "clock"),
        "select": ("cs", "ss", "ncs", "nss", "csn", "ssn", "select", "sel", "ce"),
        "out": ("mosi", "copi", "pico", "out", "dout"),
        "in": ("miso", "cipo", "poci", "in", "din"),
    },
    {"out": OUT.number, "in": IN.number},
    read,
    explain,
    lambda how: int(how.numbers["rising"]),
    {"mode": "0 to 3", "word": f"1 to {LONGEST_WORD}", "order": ", ".join(ORDERS), "gap": "a time, as 5ms"},
)
