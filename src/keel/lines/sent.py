"""SENT as a line code: how many nibbles, whether there is a pause and which checksum, by what fits; the slow channel.

Source: SAE J2716 (2016), 5.2.3, 5.2.4, 5.4.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.code import Asked, Code, Field, Guess, How
from keel.lines.evidence import Evidence, certainty, different_frames
from keel.lines.pulses import BitTime, explained, glitch_free, mostly_at, window
from keel.lines.sent_reader import CALIBRATION, CRC, LONGEST_PAUSE, OFF, TABLE, ZERO, read_messages
from keel.lines.sent_slow import slow_messages
from keel.lines.timing import Pulses, falls_of, pulses
from keel.media.sent import FAST
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import batch_of, concat
from keel.model.waveform import Logic

GLITCH_NS, FEWEST, ALIKE, LEAST = 500.0, 3, 0.25, 0.3
"""Pulses shorter than that are none; so many messages are no chance; by such a share a
clock may drift; and so much of the line is explained at least."""
A_SILENCE = 2 * CALIBRATION
"""In ticks: so long nothing happens within a message."""
LOOKED_AT = 20_000
"""So many falling edges tell how the sensor speaks."""
CHECKS = ("recommended", "legacy")
FAST_CHANNELS = {"12+12": (3, 0), "16+8": (4, 0), "14+10": (4, 1), "secure": (3, 0)}
"""Ways to read six nibbles: of how many the first channel is, and how many of these the second one shares."""
NEAR_A_HALF = 0.015
"""A tick so near to a multiple of half a microsecond is called that."""


def read(logic: Logic, unit: BitTime | None, asked: Asked) -> list[Guess]:
    """A line read as SENT."""
    # High for most of the time: each pulse begins with a short stay at low.
    inverted = mostly_at(logic) == 0 if asked.inverted is None else asked.inverted
    line = logic.inverted if inverted else logic
    falls = _falls(line)
    if len(falls) < 8:
        return []
    best: tuple[int, tuple[int, int, int], Any] | None = None
    for way in _ways(asked):
        head = _read(falls[:LOOKED_AT], way)
        good = int((head[:, 4] == 0).sum())
        bad = len(head) - good
        score = good - bad + int(head[:, 7].sum())
        if good >= FEWEST and (best is None or score > best[0]):
            best = score, way, head
    if best is None:
        return []
    _, way, head = best
    table = head if len(falls) <= LOOKED_AT else _read(falls, way)
    guess = _guess(line, table, way, asked, inverted) if _agrees(table) else None
    return [guess] if guess is not None and guess.explained >= LEAST else []


def _agrees(table: Any) -> bool:
    """Whether most messages are right, and their calibration pulses are about alike: those in noise are not."""
    good = table[:, 4] == 0
    usual = np.median(table[good, 5]) if good.any() else 0.0
    alike = np.abs(table[:, 5] - usual) <= ALIKE * usual
    return bool(good.sum() >= FEWEST and good.mean() > 0.5 and alike.mean() > 0.6)


def _falls(logic: Logic) -> Any:
    """Falling edges of all known stretches; rising ones tell nothing."""
    clean = glitch_free(logic, GLITCH_NS)
    first = clean.first
    return np.ascontiguousarray(clean.edges[(np.arange(len(clean.edges)) & 1) == (0 if first else 1)])


def _ways(asked: Asked) -> list[tuple[int, int, int]]:
    """Nibbles, pause and checksum to try, the most usual first."""
    said = asked.settings
    nibbles = [6, 4, 3, 5, 2, 1]
    if "nibbles" in said:
        if not said["nibbles"].isdecimal() or not 1 <= int(said["nibbles"]) <= 6:
            raise InputError("--set", f"nibbles={said['nibbles']}", "1 to 6")
        nibbles = [int(said["nibbles"])]
    if said.get("fast_channels", "12+12").lower() not in FAST_CHANNELS:
        raise InputError("--set", f"fast_channels={said['fast_channels']}", ", ".join(FAST_CHANNELS))
    checks = [0, 1]
    if "checksum" in said:
        if said["checksum"].lower() not in CHECKS:
            raise InputError("--set", f"checksum={said['checksum']}", " or ".join(CHECKS))
        checks = [CHECKS.index(said["checksum"].lower())]
    return [(count, pause, check) for check in checks for count in nibbles for pause in (0, 1)]


def _read(falls: Any, way: tuple[int, int, int]) -> Any:
    nibbles, pause, legacy = way
    out = np.empty((len(falls) // (nibbles + 3) + 1, 8), np.int64)
    return out[: read_messages(falls, nibbles, pause, legacy, TABLE, out)]


def _guess(logic: Logic, table: Any, way: tuple[int, int, int], asked: Asked, inverted: bool) -> Guess:
    nibbles, pause, legacy = way
    faults = np.where(table[:, 4] & CRC, int(Fault.CRC), 0) | np.where(table[:, 4] & OFF, int(Fault.CALIBRATION), 0)
    size = 1 + (nibbles + 1) // 2
    payloads = np.empty((len(table), size), np.uint8)
    payloads[:, 0] = table[:, 2]
    whole = table[:, 3] << 4 * (nibbles % 2)
    for place in range(size - 1):
        payloads[:, 1 + place] = whole >> 8 * (size - 2 - place) & 0xFF
    fast = batch_of(
        table[:, 0].copy(), 0, payloads, form=FAST.number, dlc=0, faults=faults.astype(np.uint32),
        duration=table[:, 1] - table[:, 0],
    )  # fmt: skip
    slow = slow_messages(table)
    frames = concat([fast, slow]) if len(slow) else fast
    frames = frames.take(np.argsort(frames.time, kind="stable"))
    good = table[:, 4] == 0
    tick = float(np.median(table[good, 5])) / CALIBRATION
    silences = table[1:, 0] - table[:-1, 6]
    # A pause pulse may be long; without one a silence is none of a message.
    longest = 1.1 * LONGEST_PAUSE if pause else A_SILENCE
    share = explained(logic, table[good, 0], table[good, 6], longest * tick)
    said = []
    waits = silences > (LONGEST_PAUSE if pause else A_SILENCE) * tick
    if len(silences) and waits.mean() > 0.5:
        said.append(f"waits for requests: silent for {np.median(silences[waits]) / 1e6:.3g} ms between its messages")
        requested = _requests(logic, table)
        if requested:
            said.append(f"before {requested:.0%} of its messages somebody else pulls the wire low: a request")
    called = round(asked.rate) if asked.rate is not None else _ticks_a_second(tick)
    settings: dict[str, object] = {"nibbles": nibbles, "checksum": CHECKS[legacy], "pause": "yes" if pause else "no"}
    if "fast_channels" in asked.settings:
        settings["fast_channels"] = asked.settings["fast_channels"].lower()
    bus = Bus("", called, medium="sent", stamp="start", assumed=False)
    numbers = {"nibbles": float(nibbles), "tick": tick}
    faulty = int((~good).sum())
    right = different_frames(fast.take(np.flatnonzero(good)))
    evidence = Evidence(right * A_FRAME * certainty(1 - float(good.mean())), 4.0)
    return Guess(
        "sent", 1e9 / tick, None, inverted, settings, frames, bus, share, evidence, "with a right CRC", faulty,
        tuple(said), numbers,
    )  # fmt: skip


A_FRAME = 16.0
"""Bits that a right message foretells: its checksum, and that each pulse is one that a nibble can have."""


def _requests(logic: Logic, table: Any) -> float:
    """The share of messages before which the wire is pulled low once more than the message before ends."""
    falls = _falls(logic)
    first = np.searchsorted(falls, table[1:, 0], side="left")
    last = np.searchsorted(falls, table[:-1, 6], side="right")
    return float((first > last).mean()) if len(first) else 0.0


def _ticks_a_second(tick: float) -> int:
    """By the usual length of a tick, if one is near."""
    usual = max(round(tick / 500), 1) * 500
    return round(1e9 / usual) if abs(tick / usual - 1) <= NEAR_A_HALF else round(1e9 / tick)


def time(line: Logic, how: How, fields: Sequence[Field]) -> Pulses:
    """Falling edges against the ticks that the calibration pulse of their message has."""
    first = fields[0]
    tick = (first.end - first.start) / CALIBRATION
    falls = falls_of(line)
    mine = falls[(falls >= first.start) & (falls <= fields[-1].end)]
    return pulses(mine, mine, tick, 0.5, 0.5, CALIBRATION + 1)


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The pulses of a message: calibration, status, each nibble, checksum; of the slow channel the messages alone."""
    falls = _falls(window(line, start - 1, end + 1))
    nibbles = int(how.numbers["nibbles"])
    if len(falls) != nibbles + 4:
        return []
    tick = float(falls[1] - falls[0]) / CALIBRATION
    fields = [Field("calibration", int(falls[0]), int(falls[1]), None, f"{tick / 1e3:.3f} µs a tick")]
    names = ["status", *(f"nibble_{n + 1}" for n in range(nibbles)), "crc"]
    values = []
    for name, a, b in zip(names, falls[1:].tolist(), falls[2:].tolist(), strict=False):
        value = int(np.rint((b - a) / tick - ZERO))
        values.append(value)
        fields.append(Field(name, a, b, value, f"{value:X}"))
    fields += _channels(fields[2:-1], str(how.settings.get("fast_channels", "")))
    remainder = 5
    for value in values[1:-1]:
        remainder = (value & 15) ^ int(TABLE[remainder])
    wanted = remainder if how.settings.get("checksum") == "legacy" else int(TABLE[remainder])
    if values[-1] != wanted:
        place = nibbles + 2
        fields[place] = replace(fields[place], fault="crc")
    return fields


def _channels(nibbles: list[Field], how: str) -> list[Field]:
    """What the nibbles say together, where a person said how: the second channel comes with its lowest nibble first."""
    if how not in FAST_CHANNELS or len(nibbles) != 6:
        return []
    a, b, c, d, e, f = (int(nibble.value or 0) for nibble in nibbles)
    first, second = {
        "12+12": (a << 8 | b << 4 | c, f << 8 | e << 4 | d),
        "16+8": (a << 12 | b << 8 | c << 4 | d, f << 4 | e),
        "14+10": (a << 10 | b << 6 | c << 2 | d >> 2, f << 6 | e << 2 | d & 3),
        "secure": (a << 8 | b << 4 | c, d << 4 | e),
    }[how]
    split, overlaps = FAST_CHANNELS[how]
    begin, end = nibbles[split - overlaps].start, nibbles[4 if how == "secure" else 5].end
    found = [
        Field("channel_1", nibbles[0].start, nibbles[split - 1].end, first, str(first)),
        Field("channel_2" if how != "secure" else "counter", begin, end, second, str(second)),
    ]
    if how == "secure":
        text = f"{f:X}" if f == a ^ 0xF else f"{f:X}, not nibble_1 inverted"
        found.append(Field("inverted", nibbles[5].start, nibbles[5].end, f, text))
    return found


SENT = Code("sent", "SENT", read, explain, takes={
    "nibbles": "1 to 6", "checksum": ", ".join(CHECKS), "fast_channels": ", ".join(FAST_CHANNELS),
}, time=time)  # fmt: skip
