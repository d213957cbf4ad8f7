"""CAN and CAN FD as line codes: rates found by what has the right checksums."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.can import with_wire_bits
from keel.lines.can_clock import measured
from keel.lines.can_fields import fields_of
from keel.lines.can_reader import EITHER, ISO, NOT_ISO, ONLY
from keel.lines.can_repeats import sentences
from keel.lines.can_wave import FAULT_OF, CanRates, CanSent, decode, turn_of, usual_of
from keel.lines.code import Asked, Code, Field, Guess, How, rate_words
from keel.lines.evidence import Evidence, different_frames
from keel.lines.pulses import BitTime, explained, glitch_free, head, idle_level, nearest_rate, window
from keel.lines.timing import Pulses, falls_of, inside, joined, pulses
from keel.model.bus import Bus
from keel.model.frames import Flag, FrameBatch
from keel.model.waveform import Logic

USUAL = (1_000_000, 800_000, 500_000, 250_000, 125_000, 100_000, 83_333, 50_000, 33_333, 20_000, 10_000)
USUAL_FAST = (8_000_000, 5_000_000, 4_000_000, 2_000_000, 1_000_000)
GLITCH = 0.3
"""Pulses shorter than that share of a bit are none."""
PAUSE_BITS = 11
LOOKED_AT_EDGES = 60_000
"""So many edges tell which rates are right."""


def read(logic: Logic, unit: BitTime | None, asked: Asked, flexible: bool = True) -> list[Guess]:
    """A line read as CAN, at the rates that explain it best."""
    if len(logic.edges) < 8 or (unit is None and asked.rate is None):
        return []
    if asked.settings.get("iso", "yes").lower() not in ISOS:
        raise InputError("--set", f"iso={asked.settings['iso']}", "yes or no")
    inverted = idle_level(logic) == 0 if asked.inverted is None else asked.inverted
    line = logic.inverted if inverted else logic
    best: tuple[float, CanRates] | None = None
    sample = head(line, LOOKED_AT_EDGES)
    for rates in _candidates(unit, asked, flexible):
        sent = decode(_clean(sample, rates), rates)
        good = int(sent.good.sum())
        score = good - 0.5 * (len(sent) - good)
        if (good or asked.rate is not None) and (best is None or score > best[0]):
            best = score, rates
    if best is None:
        return []
    rates = _refined(sample, best[1])
    rates = measured(_clean(sample, rates), decode(_clean(sample, rates), rates), rates)
    clean = _clean(sample, rates)
    usual = ISOS[asked.settings["iso"].lower()] if "iso" in asked.settings else usual_of(decode(clean, rates))
    rates = CanRates(rates.slow, rates.fast, turn_of(clean, rates), usual)
    clean = _clean(line, rates)
    sent = decode(clean, rates)
    if not sent.good.any() and (asked.rate is None or not len(sent)):
        return []
    guess = _guess(clean, sent, rates, inverted, asked)
    # A person's rate is kept to, whatever comes of it; beside it stands what the wire measures.
    said = () if sent.good.any() else rate_words(asked.rate, _found_rate(logic, unit, asked, flexible))
    return [replace(guess, said=(*guess.said, *said))]


def _found_rate(logic: Logic, unit: BitTime | None, asked: Asked, flexible: bool) -> float | None:
    """The rate that a line has where nobody says it: of its frames, else of its edges if they tell."""
    if unit is None:
        return None
    free = read(logic, unit, replace(asked, rate=None, fast_rate=None), flexible)
    return free[0].rate if free else unit.rate if unit.fits > SURE else None


SURE = 0.85
"""A bit time is told by edges alone where such a share of pulses fits."""


ISOS = {"yes": ISO + ONLY, "no": NOT_ISO + ONLY}


def _clean(line: Logic, rates: CanRates) -> Logic:
    return glitch_free(line, GLITCH * 1e9 / max(rates.slow, rates.fast))


def _candidates(unit: BitTime | None, asked: Asked, flexible: bool) -> list[CanRates]:
    """Rates to try: those that were said, else what the shortest pulses tell, and usual slower ones beside it."""
    if asked.rate is not None:
        fasts = (
            [asked.fast_rate]
            if asked.fast_rate
            else [0.0, *(f for f in USUAL_FAST if f > asked.rate)]
            if flexible
            else [0.0]
        )
        return [CanRates(asked.rate, fast or 0.0) for fast in fasts]
    assert unit is not None
    found = [CanRates(unit.rate)]
    near = nearest_rate(unit.rate)
    if near in USUAL:
        found.append(CanRates(float(near)))
    # Two or three bits together may be the shortest pulse there is.
    found += [CanRates(unit.rate * n) for n in (2, 3)]
    if flexible:
        # A clock that is off is off for both rates.
        off = unit.rate / near if near else 1.0
        found += [CanRates(slow * off, unit.rate) for slow in USUAL if slow < 0.7 * unit.rate]
    return found


def _refined(line: Logic, rates: CanRates) -> CanRates:
    """The rates as frames themselves show them: from start of frame to the acknowledgement of the same frame."""
    best, kept = -1.0, rates
    for off in (0.0, -0.006, 0.006, -0.012, 0.012, -0.02, 0.02):
        tried = CanRates(rates.slow * (1 + off), rates.fast * (1 + off))
        sent = decode(_clean(line, tried), tried)
        good = float(sent.good.sum())
        if good > best + 0.5:
            best, kept = good, tried
    return kept


def _guess(line: Logic, sent: CanSent, rates: CanRates, inverted: bool, asked: Asked) -> Guess:
    faults = np.zeros(len(sent), np.uint32)
    for bit, fault in FAULT_OF.items():
        faults |= np.where(sent.faults & bit, np.uint32(int(fault)), np.uint32(0))
    none = np.zeros(len(sent), np.uint32)
    batch = FrameBatch(
        sent.starts, np.zeros(len(sent), np.uint8), sent.form, sent.ident, sent.flags, faults, sent.dlc, none,
        none.astype(np.uint16), sent.offsets.astype(np.uint32), sent.data, None, sent.ends - sent.starts,
    )  # fmt: skip
    good = sent.good
    share = explained(line, sent.starts[good], sent.ends[good], PAUSE_BITS * 1e9 / rates.slow)
    is_fd = bool((sent.flags & Flag.FD).any())
    has_fast = bool((sent.flags & Flag.BRS).any())
    said = []
    if is_fd and rates.usual in (NOT_ISO, NOT_ISO + ONLY):
        said.append("CAN FD from before ISO 11898-1:2015")
    settings: dict[str, object] = {"iso": "no" if said else "yes"} if is_fd else {}
    said += sentences(batch, 1e9 / rates.slow)
    slow = asked.rate or nearest_rate(rates.slow) or rates.slow
    fast = (asked.fast_rate or nearest_rate(rates.fast) or rates.fast) if has_fast else None
    bus = Bus(
        "", max(round(slow), 1), round(fast or 2_000_000), stamp="start", assumed=False, fast_assumed=fast is None
    )
    faulty = int((~good & ~sent.is_follow_up).sum())
    how = {"slow": rates.slow, "fast": rates.fast, "turn": rates.turn_ns, "usual": float(rates.usual)}
    return Guess(
        "canfd" if is_fd else "can", rates.slow, rates.fast if has_fast else None, inverted, settings,
        with_wire_bits(batch), bus, share, _evidence(line, batch, good), "with a right CRC", faulty, tuple(said), how,
    )  # fmt: skip


A_FRAME, EDGES_A_TRY = 24.0, 20
"""Bits that a right frame foretells: its checksum, bits of fixed form, stuff bits; and how many edges something that is
no frame has for each time that one might seem to begin."""


def _evidence(line: Logic, frames: FrameBatch, good: Any) -> Evidence:
    """What speaks for frames: each different one for itself; the more is tried, the easier chance meets a checksum."""
    right = different_frames(frames.take(np.flatnonzero(good)))
    tries = len(line.edges) * (1 - float(good.mean())) / EDGES_A_TRY
    return Evidence(right * max(A_FRAME - float(np.log2(1 + tries)), 0.0), 4.0)


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The fields of a frame."""
    numbers = how.numbers
    rates = CanRates(numbers["slow"], numbers["fast"], numbers["turn"], int(numbers.get("usual", EITHER)))
    bit = 1e9 / rates.slow
    part = window(line, start - round(20 * bit), end + round(20 * bit))
    return fields_of(_clean(part, rates), start, end, rates)


SAMPLE_POINT = 0.8
"""Where in a bit it is taken; controllers are set to about that."""


def time(line: Logic, how: How, fields: Sequence[Field]) -> Pulses:
    """Edges against those that fall, by which controllers set their clocks; none where the bit rate changes."""
    slow = 1e9 / how.numbers["slow"]
    edges, falls = inside(line, fields[0].start, fields[-1].end), falls_of(line)
    begin = next((one.end for one in fields if one.name == "brs" and one.value), None)
    end = next((one.start for one in fields if one.name == "crc_delimiter"), None)
    early, late = 1 - SAMPLE_POINT, SAMPLE_POINT
    if begin is None or end is None or not how.numbers["fast"]:
        return pulses(edges, falls, slow, early, late)
    parts = []
    for low, high, unit in ((-np.inf, begin - slow, slow), (begin, end, 1e9 / how.numbers["fast"]),
                            (end + slow, np.inf, slow)):  # fmt: skip
        mine = edges[(edges >= low) & (edges <= high)]
        if len(mine) > 1:
            parts.append(pulses(mine, falls[(falls >= low) & (falls <= high)], unit, early, late))
    return joined(parts) or pulses(edges[:1], falls, slow, early, late)


WIRES = ("line", "high", "low")
CAN = Code("can", "CAN", lambda logic, unit, asked: read(logic, unit, asked, flexible=False), explain, roles=WIRES,
           is_tried=False, time=time, medium="can")  # fmt: skip
"""Not tried by itself: as CAN FD it is found as well."""
CAN_FD = Code("canfd", "CAN FD", read, explain, takes={"iso": "yes or no"}, roles=WIRES, time=time, medium="can")
