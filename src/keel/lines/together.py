"""Which wires make a line together, and what each of them is: by their names, and by what they do."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from keel.errors import InputError
from keel.lines.card import CARD
from keel.lines.clocked import ClockedCode, Wire, Wires, edges_to, is_clock, known_edges, levels_before, unknown_at
from keel.lines.code import Asked, Guess
from keel.lines.evidence import Evidence
from keel.lines.i2c import I2C
from keel.lines.pulses import head, widths_of, window
from keel.lines.spi import SPI, follows_rise
from keel.model.frames import Times
from keel.model.waveform import Logic

CLOCKED: dict[str, ClockedCode] = {code.word: code for code in (CARD, I2C, SPI)}
LOOKED_AT = 40_000
"""So many edges of a clock tell whether wires belong together."""
FEWEST, FEWEST_OF_DATA, MOST_WIRES = 8, 4, 24
FOLLOWS, FEWEST_CHANGES = 0.9, 2
"""Data follows a clock where such a share of its changes is with edges of one direction, while the clock goes."""
BESIDE, LEAST_CLOCKS, SELECTS = 0.1, 4, 0.9
"""A select changes while the clock rests: such a share of its changes may not; and so many edges of the clock lie in
such a share of the times in which it selects."""
Group = tuple[ClockedCode, tuple[Wire, ...]]
Rank = tuple[int, float, float]
"""What has checks of its own comes before what has none; then what makes more sense, or has more of a clock."""


Alone = Callable[[Wire], float]
"""What speaks for a wire being a line by itself, in bits."""


def groups(wires: Sequence[Wire], asked: Asked, alone: Alone = lambda _: 0.0) -> list[Group]:
    """The lines of several wires that are among some, each with the roles of its wires.

    In a synchronous circuit everything follows some clock: wires of which more is explained one by one are left alone.

    Args:
        wires: Of any roles; those that a person gave are kept, an empty one is found.
        asked: What a person said.
        alone: What speaks for a wire by itself.
    """
    left = [one for one in wires if len(one.logic.edges) >= 2]
    found: list[Group] = []
    if len(left) > MOST_WIRES:
        return found
    while True:
        clocks = [one for one in left if one.role in ("", "clock") and _may_be_clock(_start_of(one.logic))]
        best: tuple[Rank, Group] | None = None
        for clock in clocks:
            for rank, group, bits in _with_clock(clock, [one for one in left if one is not clock], asked):
                data = [one for one in group[1] if one.role not in ("clock", "select")]
                if (best is None or rank > best[0]) and sum(alone(one) for one in data) < bits:
                    best = rank, group
        if best is None:
            return found
        code, those = best[1]
        those = (*those, *_still(code, those, wires))
        found.append((code, those))
        used = {one.name for one in those}
        left = [one for one in left if one.name not in used]


SHORTEST_HALF = 0.2
"""Either half of a clock's period is at least such a share of it: what is shorter is a pulse of something else."""


def _may_be_clock(logic: Logic) -> bool:
    """Whether a wire may be the clock of others: it goes steadily, and either half of its periods is about as long."""
    if not is_clock(logic):
        return False
    low, high = (float(np.median(widths)) for widths in widths_of([logic]))
    return min(low, high) >= SHORTEST_HALF * (low + high)


def _still(code: ClockedCode, group: Sequence[Wire], wires: Sequence[Wire]) -> list[Wire]:
    """Wires that never change, but are called as one that is missing: what comes on them is the same all the time."""
    missing = [role for role in code.roles if role != "select" and all(one.role != role for one in group)]
    found = []
    for one in wires:
        role = one.role or _by_name(code, one.name)
        if len(one.logic.edges) < 2 and role in missing:
            found.append(replace(one, role=role))
            missing.remove(role)
    return found


def arranged(code: ClockedCode, wires: Sequence[Wire]) -> tuple[Wire, ...]:
    """Wires with the roles they have in a code: given ones, then by name, then by what they do.

    Raises:
        InputError: it cannot be told which is the clock.
    """
    named = list(wires)
    for place, one in enumerate(named):
        role = one.role or _by_name(code, one.name)
        if role and (role == "select" or all(other.role != role for other in named)):
            named[place] = replace(one, role=role)
    if all(one.role != "clock" for one in named):
        free = [one for one in named if not one.role]
        clocks = [one for one in free if is_clock(_start_of(one.logic))] or free
        if not clocks:
            raise InputError("--channel", "no channel is the clock", f"CHANNEL=clock for {code.word}")
        clock = max(clocks, key=lambda one: len(one.logic.edges))
        named = [replace(one, role="clock") if one is clock else one for one in named]
    clock = next(one for one in named if one.role == "clock")
    free = [one for one in named if not one.role]
    given = [one for one in named if one.role and one is not clock]
    taken = {one.role for one in given}
    has_selects = "select" in code.roles and "select" not in taken
    beside = [one for one in free if has_selects and _is_beside(_near(one.logic, clock.logic), clock.logic)]
    data = [one for one in free if one not in beside]
    following = [one for one in data if _follows(one.logic, _start_of(clock.logic))]
    # Where nothing follows the clock, and nothing else is known to be data, whatever there is may be.
    known = following if following or taken - {"select"} else data
    return (clock, *given, *_told_apart(code, clock, [*beside, *known], taken))


def _told_apart(code: ClockedCode, clock: Wire, free: Sequence[Wire], taken: set[str]) -> list[Wire]:
    """Roles for the wires that have none, beside the clock."""
    open_roles = [role for role in code.roles if role not in (*taken, "clock", "select")]
    selects = "select" in code.roles
    found = []
    for one in free:
        if selects and _is_beside(_near(one.logic, clock.logic), clock.logic):
            found.append(replace(one, role="select"))
        elif open_roles:
            found.append(replace(one, role=open_roles.pop(0)))
    return found


def _by_name(code: ClockedCode, name: str) -> str:
    """What a channel is by its name; empty if that does not say."""
    words = re.split(r"[^a-z0-9]+", name.lower())
    # The last word that says it does, a number or a mark of what is inverted set aside.
    said = [stem for word in words if (stem := word.rstrip("0123456789")) and stem != "n"]
    for stem in reversed(said):
        for role, names in code.names.items():
            if stem in names or stem.removeprefix("n") in names:
                return role
    return ""


def _with_clock(clock: Wire, others: Sequence[Wire], asked: Asked) -> list[tuple[Rank, Group, float]]:
    """The lines that a clock may make with others, each with its rank and what speaks for it, in bits."""
    clock = replace(clock, role="clock")
    part = _start_of(clock.logic)
    found: list[tuple[Rank, Group, float]] = []
    for code, role in ((CARD, "command"), (I2C, "data")):
        for one in others:
            if one.role not in ("", role) or len(one.logic.edges) < FEWEST_OF_DATA:
                continue
            group: tuple[Wire, ...] = (clock, replace(one, role=role))
            bits = _bits(code, _cut(group, part), asked)
            if bits:
                found.append(((1, bits, len(clock.logic.edges)), (code, group), bits))
    if found:
        return found
    data = [one for one in others if one.role in ("", "out", "in") and _follows(one.logic, part)]
    selects = [
        one
        for one in others
        if one not in data and one.role in ("", "select") and _is_beside(_near(one.logic, part), part)
    ]
    data = _two_of(data, part)
    if data:
        named = [replace(one, role=one.role or _by_name(SPI, one.name)) for one in data]
        named = [one if one.role in ("out", "in") else replace(one, role="") for one in named]
        taken = {one.role for one in named if one.role}
        known = [one for one in named if one.role]
        group = (clock, *(replace(one, role="select") for one in selects), *known,
                 *_told_apart(SPI, clock, [one for one in named if not one.role], {*taken, "select"}))  # fmt: skip
        bits = _bits(SPI, _cut(group, part), asked)
        if bits:
            # A select may go as steadily as a clock; the clock goes faster.
            found.append(((0, len(clock.logic.edges), bits), (SPI, group), bits))
    return found


def _two_of(data: Sequence[Wire], clock: Logic) -> list[Wire]:
    """Of wires that follow a clock the two that are its data: called so, if any are; of copies one alone."""
    different: list[Wire] = []
    taken = edges_to(clock, 1)
    for one in sorted(data, key=lambda wire: not (wire.role or _by_name(SPI, wire.name))):
        if not any(_are_copies(one.logic, other.logic, taken) for other in different):
            different.append(one)
    # Those that are called as data come first.
    return different[:2]


def _are_copies(one: Logic, other: Logic, times: Times) -> bool:
    """Whether two wires have the same levels at some moments, as far as both are known."""
    known = ~(unknown_at(one, times) | unknown_at(other, times))
    if not known.any():
        return False
    return bool((levels_before(one, times[known]) == levels_before(other, times[known])).mean() > A_COPY)


A_COPY = 0.98
"""Wires with the same level at such a share of a clock's edges are copies of each other."""
A_NAME = 3.0
"""What it tells, in bits, that a wire is called as its role is."""


def _read(code: ClockedCode, wires: Wires, asked: Asked) -> list[Guess]:
    """Wires as they are read in a code; what they are called speaks for it, too."""
    names = Evidence(A_NAME * sum(1 for one in wires if one.role and _by_name(code, one.name) == one.role))
    return [replace(guess, evidence=guess.evidence + names) for guess in code.read(wires, asked)]


def _bits(code: ClockedCode, wires: Wires, asked: Asked) -> float:
    """What speaks for wires being a line of a code; 0 where that is too little to be told."""
    return max((guess.evidence.bits for guess in _read(code, wires, asked) if guess.is_told), default=0.0)


def _start_of(logic: Logic) -> Logic:
    return head(logic, LOOKED_AT)


def _near(logic: Logic, clock: Logic) -> Logic:
    return window(logic, clock.start, clock.end)


def _cut(wires: Wires, clock: Logic) -> list[Wire]:
    return [replace(one, logic=_near(one.logic, clock)) for one in wires]


def _follows(logic: Logic, clock: Logic) -> bool:
    """Whether a wire changes with edges of a clock of one direction, and while that goes."""
    near = _near(logic, clock)
    changes = len(known_edges(near))
    if changes < FEWEST_CHANGES or len(clock.edges) < FEWEST:
        return False
    rose = follows_rise(clock, near)
    # What changes while the clock rests is set up for the first bit, or let go.
    if len(rose) < max(FEWEST_CHANGES, 0.2 * changes):
        return False
    share = float(rose.mean())
    return max(share, 1 - share) >= FOLLOWS


def _is_beside(select: Logic, clock: Logic) -> bool:
    """Whether a wire changes only while a clock rests, and the clock goes in between."""
    edges = select.edges
    if not len(edges) >= 2 or len(clock.edges) < FEWEST:
        return False
    usual = float(np.median(np.diff(edges_to(clock, 1))))
    place = np.searchsorted(clock.edges, edges, side="right") - 1
    inside = (place >= 0) & (place < len(clock.edges) - 1)
    gaps = np.where(inside, clock.edges[np.minimum(place + 1, len(clock.edges) - 1)] - clock.edges[place], 10 * usual)
    if float((gaps < 1.2 * usual).mean()) > BESIDE or len(edges) >= len(clock.edges) // 2:
        return False
    # At the level at which it selects the clock goes, each time.
    counts = np.diff(np.searchsorted(clock.edges, edges))
    goes = [counts[first::2] >= LEAST_CLOCKS for first in (0, 1)]
    return any(len(one) and float(one.mean()) >= SELECTS for one in goes)


def read_together(code: ClockedCode, wires: Sequence[Wire], asked: Asked) -> list[Guess]:
    """The ways to read wires whose roles are known: in a code, and in what else may be, by the begin of a long line."""
    best = _read(code, wires, asked)
    if not best:
        return []
    others: list[Guess] = []
    whole = next(one for one in wires if one.role == "clock")
    begin = _cut(wires, _start_of(whole.logic))
    clock = next(one for one in begin if one.role == "clock")
    rest = [replace(one, role="") for one in begin if one is not clock and one.role != "select"]
    for other in CLOCKED.values():
        if other is not code and len(rest) >= 1:
            others += _read(other, (clock, *_told_apart(other, clock, rest[:1], set())), Asked())
    return [best[0], *sorted((one for one in others if one.evidence.bits > 0), key=lambda one: -one.evidence.bits)]


def followers(group: Group, wires: Sequence[Wire]) -> list[str]:
    """The names of wires that belong to no line but follow the clock of one: copies of its data, or what drives it."""
    clock = next(one for one in group[1] if one.role == "clock")
    names = {one.name for one in group[1]}
    start = _start_of(clock.logic)
    copies = [one for one in wires if one.name not in names and _are_the_same(one.logic, clock.logic)]
    follow = [one for one in wires if one.name not in names and not one.role and _follows(one.logic, start)]
    return [one.name for one in (*copies, *follow)]


def _are_the_same(one: Logic, other: Logic) -> bool:
    return len(one.edges) == len(other.edges) and bool((one.edges == other.edges).all())
