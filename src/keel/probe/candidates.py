"""The lines that may be in some channels: single wires, differences of two, and wires that belong to a clock."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from keel.errors import InputError
from keel.lines.clocked import ClockedCode, Wire
from keel.lines.code import Asked
from keel.lines.codes import EVERY, guesses, is_told
from keel.lines.levels import levels_of, logic_of, other_cut
from keel.lines.pulses import head, idle_level
from keel.lines.together import CLOCKED, arranged, followers, groups
from keel.model.waveform import Analog, Logic
from keel.probe.channels import Probed, named
from keel.probe.lines import Candidate
from keel.probe.made import Formula, made, parse_formula

FEWEST_EDGES, APART, MOSTLY = 8, 0.3, 0.85
"""Two wires of a pair change together: so many edges, apart by such a share of the shortest pulse at most, and nearly
all of them."""
MOST_STEPS, STEP_AWAY, A_STEP = 2_000, 3, 0.2
"""Where one of them shows no levels: of so many edges of the difference each wire steps by such a share of its swing,
from so many samples before to as many behind."""
Found = tuple[str, Candidate]
"""The code that a line is to be read in, or ``auto``; and the line."""


@dataclass(frozen=True)
class Wanted:
    """What is to be read: a code, the channels it is in (none: each by itself), and their roles by name."""

    code: str = "auto"
    channels: tuple[str, ...] = ()
    roles: Mapping[str, str] = field(default_factory=dict)


def candidates(channels: Sequence[Probed], wanted: Wanted, asked: Asked, aside: dict[str, str]) -> list[Found]:
    """The lines to read.

    Args:
        channels: What was probed.
        wanted: What is to be read of it.
        asked: What a person said of the lines.
        aside: Filled with the channels that are set aside, and why.

    Raises:
        InputError: a channel or a role that was named is none.
    """
    chosen = [named(channels, name) for name in wanted.channels] or _not_made_of(channels)
    roles = {named(channels, name).channel.name: role for name, role in wanted.roles.items()}
    if wanted.roles and not wanted.channels:
        # In the order in which they were said; of wires that go by a clock others may be found beside.
        said = [named(channels, name) for name in wanted.roles]
        goes_by_a_clock = wanted.code in CLOCKED or "clock" in roles.values()
        chosen = [*said, *(one for one in channels if one not in said)] if goes_by_a_clock else said
    known = {role for code in EVERY.values() for role in code.roles}
    for role in roles.values():
        allowed = known if wanted.code == "auto" else EVERY[wanted.code].roles
        if role not in allowed:
            of = "any code" if wanted.code == "auto" else wanted.code
            raise InputError("--channel", f"{role} is no role of {of}", ", ".join(sorted(allowed)))
    wires = [Wire(one.channel.name, roles.get(one.channel.name, ""), one.logic) for one in chosen]
    if wanted.code in CLOCKED:
        code = CLOCKED[wanted.code]
        return [(code.word, _together(code, arranged(code, wires), len(channels)))]
    high = next((one for one in chosen if roles.get(one.channel.name) == "high"), None)
    low = next((one for one in chosen if roles.get(one.channel.name) == "low"), None)
    if high is not None and low is not None:
        rest = [_single(one, roles) for one in chosen if one not in (high, low)]
        return [(wanted.code, one) for one in [_pair(high, low, asked), *rest]]
    found: list[Found] = []
    followed: dict[str, str] = {}
    if wanted.code == "auto" and len(chosen) > 1:
        free = [one for one in wires if one.role not in ("line", "host", "device")]
        for group in groups(free, asked, lambda wire: _alone(wire.logic)):
            found.append((group[0].word, _together(*group, len(channels))))
            followed |= dict.fromkeys(followers(group, free), found[-1][1].name)
        used = {name for _, one in found for name in one.roles}
        followed = {name: line for name, line in followed.items() if name not in used}
        chosen = [one for one in chosen if one.channel.name not in {*used, *followed}]
        aside |= {name: f"follows the clock of {line}: a copy of its data, or what drives it"
                  for name, line in followed.items()}  # fmt: skip
    if wanted.code in ("auto", "can", "canfd"):
        return found + [(wanted.code, one) for one in _paired(chosen, roles, asked)]
    return found + [(wanted.code, _single(one, roles)) for one in chosen]


ALONE_EDGES = 20_000
"""So many edges tell whether a wire is a line by itself."""


def _alone(logic: Logic) -> float:
    """What speaks for a wire being a line by itself, in bits."""
    found = guesses(head(logic, ALONE_EDGES), Asked())
    return found[0].evidence.bits if is_told(found) else 0.0


def _not_made_of(channels: Sequence[Probed]) -> list[Probed]:
    """The channels but for those of which others are made: who makes one says what is to be read."""
    parents = {name for one in channels if one.channel.formula for name in parse_formula(one.channel.formula).of}
    return [one for one in channels if one.channel.name not in parents]


def _together(code: ClockedCode, wires: Sequence[Wire], of: int) -> Candidate:
    """The line of several wires; it is called as they are, as far as they are called alike."""
    clock = next(one for one in wires if one.role == "clock")
    alike = [parts[0] for parts in zip(*(re.split(r"[._ -]", one.name)[:-1] for one in wires), strict=False)
             if len(set(parts)) == 1]  # fmt: skip
    name = ".".join(alike) if alike and of > len(wires) else code.word
    return Candidate(name, clock.logic, {one.name: one.role for one in wires}, wires=tuple(wires))


def _single(one: Probed, roles: Mapping[str, str]) -> Candidate:
    name = one.channel.name
    return Candidate(name, one.logic, {name: roles.get(name, "line")}, other=one.other)


def _paired(chosen: Sequence[Probed], roles: Mapping[str, str], asked: Asked) -> list[Candidate]:
    """Each channel by itself, but two wires that go against each other as one line."""
    left, found = list(chosen), []
    while left:
        one = left.pop(0)
        pairs = ((two, high_first) for two in left if (high_first := _order_of_pair(one, two)) is not None)
        pair = next(pairs, None)
        if pair is None:
            found.append(_single(one, roles))
            continue
        other, is_high = pair
        left.remove(other)
        found.append(_pair(one, other, asked) if is_high else _pair(other, one, asked))
    return found


def _order_of_pair(one: Probed, two: Probed) -> bool | None:
    """Whether the first of two wires of a pair is the one that rests low; None if they are no pair."""
    a, b = one.channel.wave, two.channel.wave
    if isinstance(a, Logic) != isinstance(b, Logic):
        return None
    if isinstance(a, Analog) and isinstance(b, Analog):
        if len(a.samples) != len(b.samples) or a.step != b.step:
            return None
        if not (len(one.logic.edges) and len(two.logic.edges)):
            return _order_by_difference(a, b)
    return idle_level(one.logic) == 0 if _are_opposite(one.logic, two.logic) else None


def _order_by_difference(a: Analog, b: Analog) -> bool | None:
    """The same of two wires of which one shows no levels by itself: both have to step at once, against each other."""
    wave = made(Formula("difference", ("a", "b")), {"a": a, "b": b})
    assert isinstance(wave, Analog)
    levels = levels_of(wave)
    edges = logic_of(wave, levels).edges if levels.swing else np.zeros(0, np.int64)
    if len(edges) < FEWEST_EDGES:
        return None
    some = edges[np.linspace(0, len(edges) - 1, min(len(edges), MOST_STEPS)).astype(np.int64)]
    places = np.clip(((some - wave.start) / wave.step).astype(np.int64), STEP_AWAY, len(wave) - STEP_AWAY - 1)
    steps = [(x.samples[places + STEP_AWAY] - x.samples[places - STEP_AWAY]) * np.float64(x.scale) for x in (a, b)]
    least = A_STEP * (levels.high - levels.low)
    against = (np.sign(steps[0]) != np.sign(steps[1])) & (np.abs(steps[0]) > least) & (np.abs(steps[1]) > least)
    if float(against.mean()) < MOSTLY:
        return None
    return idle_level(logic_of(wave, levels)) == 0


def _are_opposite(a: Logic, b: Logic) -> bool:
    """Whether two lines change at the same moments, one up where the other goes down."""
    first, second = a.edges, b.edges
    if min(len(first), len(second)) < FEWEST_EDGES or abs(len(first) - len(second)) > 0.2 * len(first):
        return False
    apart = max(APART * float(np.percentile(np.diff(first), 5)), 2.0, 2 * a.grain)
    place = np.clip(np.searchsorted(second, first), 1, len(second) - 1)
    nearer = np.where(first - second[place - 1] < second[place] - first, place - 1, place)
    # An edge with an even number goes away from the level at first.
    rises, other_rises = (np.arange(len(first)) & 1) == a.first, (nearer & 1) == b.first
    return float(((np.abs(second[nearer] - first) <= apart) & (rises != other_rises)).mean()) > MOSTLY


def _pair(high: Probed, low: Probed, asked: Asked) -> Candidate:
    """The line between two wires."""
    a, b = high.channel.name, low.channel.name
    if isinstance(high.channel.wave, Logic) and isinstance(low.channel.wave, Logic):
        # Levels say the same on both wires: the lower one is high where the line rests.
        return Candidate(f"{a} − {b}", low.logic, {a: "high", b: "low"})
    formula = Formula("difference", (a, b))
    wave = made(formula, {a: high.channel.wave, b: low.channel.wave})
    assert isinstance(wave, Analog)
    levels = levels_of(wave, asked.threshold, asked.hysteresis)
    lower = other_cut(levels)
    other = None if lower is None else logic_of(wave, lower)
    return Candidate(f"{a} − {b}", logic_of(wave, levels), {a: "high", b: "low"}, formula, wave, other=other)
