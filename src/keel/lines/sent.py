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
from keel.lines.sent_between import A_SILENCE, Asking, damaged, readable, requests_of
from keel.lines.sent_channels import FAST_CHANNELS, channels_of
from keel.lines.sent_channels import fields_of as channel_fields
from keel.lines.sent_reader import CALIBRATION, CRC, LONGEST_PAUSE, OFF, TABLE, read_messages
from keel.lines.sent_slow import slow_messages
from keel.lines.timing import Pulses, falls_of, pulses
from keel.media.sent import FAST, header_of
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import FrameBatch, batch_of, concat
from keel.model.waveform import Logic

GLITCH_NS, FEWEST, ALIKE, LEAST = 500.0, 3, 0.25, 0.3
"""Pulses shorter than that are none; so many messages are no chance; by such a share a
clock may drift; and so much of the line is explained at least."""
LOOKED_AT = 20_000
"""So many falling edges tell how the sensor speaks."""
CHECKS = ("recommended", "legacy")
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
    falls = _falls(logic)
    tick = float(np.median(table[table[:, 4] == 0, 5])) / CALIBRATION
    asking = requests_of(glitch_free(logic, GLITCH_NS), falls, table)
    settings: dict[str, object] = {"nibbles": nibbles, "checksum": CHECKS[legacy], "pause": "yes" if pause else "no"}
    if "fast_channels" in asked.settings:
        settings["fast_channels"] = asked.settings["fast_channels"].lower()
    fast = _messages(table, nibbles, asking, str(settings.get("fast_channels", "")))
    slow = slow_messages(table)
    disturbed = damaged(falls, table, nibbles, asking)
    others = [disturbed, slow, *([asking.unanswered()] if asking is not None else [])]
    frames = concat([fast, *(part for part in others if len(part))])
    frames = frames.take(np.argsort(frames.time, kind="stable"))
    good = table[:, 4] == 0
    # A pause pulse may be long; without one a silence is none of a message.
    longest = 1.1 * LONGEST_PAUSE if pause else A_SILENCE
    share = explained(logic, table[good, 0], table[good, 6], longest * tick)
    said = asking.words(logic.end) if asking is not None else _waits(table, tick, bool(pause))
    if len(disturbed):
        first = int(disturbed.time[0]) / 1e9
        said.append(f"{len(disturbed):,} messages were disturbed, first at {first:.6f} s: kept as faulty frames")
    called = round(asked.rate) if asked.rate is not None else _ticks_a_second(tick)
    bus = Bus("", called, medium="sent", stamp="start", assumed=False)
    numbers = {"nibbles": float(nibbles), "tick": tick, "asked": float(asking is not None)}
    faulty = int((frames.faults != 0).sum())
    right = different_frames(fast.take(np.flatnonzero(good)))
    evidence = Evidence(right * A_FRAME * certainty(1 - float(good.mean())), 4.0)
    return Guess(
        "sent", 1e9 / tick, None, inverted, settings, frames, bus, share, evidence, "with a right CRC", faulty,
        tuple(said), numbers,
    )  # fmt: skip


def _waits(table: Any, tick: float, has_pause: bool) -> list[str]:
    """What is to be said of silences where no request is seen on the wire."""
    silences = table[1:, 0] - table[:-1, 6]
    is_long = silences > (LONGEST_PAUSE if has_pause else A_SILENCE) * tick
    if not len(silences) or is_long.mean() <= 0.5:
        return []
    usual = float(np.median(silences[is_long])) / 1e6
    return [f"waits for requests: silent for {usual:.3g} ms between its messages"]


def _messages(table: Any, nibbles: int, asking: Asking | None, channels: str) -> FrameBatch:
    """The messages as frames: a status byte, then two nibbles to a byte; with a header where there is one."""
    faults = np.where(table[:, 4] & CRC, int(Fault.CRC), 0) | np.where(table[:, 4] & OFF, int(Fault.CALIBRATION), 0)
    size = 1 + (nibbles + 1) // 2
    payloads = np.empty((len(table), size), np.uint8)
    payloads[:, 0] = table[:, 2]
    whole = table[:, 3] << 4 * (nibbles % 2)
    for place in range(size - 1):
        payloads[:, 1 + place] = whole >> 8 * (size - 2 - place) & 0xFF
    header = asking.headers(len(table)) if asking is not None else None
    if channels and nibbles == 6:
        both = header_of(len(table), channels=channels_of(table[:, 3], channels))
        header = both if header is None else header | both
    return batch_of(
        table[:, 0].copy(), 0, payloads, form=FAST.number, dlc=0, faults=faults.astype(np.uint32),
        header=header, duration=table[:, 1] - table[:, 0],
    )  # fmt: skip


A_FRAME = 16.0
"""Bits that a right message foretells: its checksum, and that each pulse is one that a nibble can have."""


def _ticks_a_second(tick: float) -> int:
    """By the usual length of a tick, if one is near."""
    usual = max(round(tick / 500), 1) * 500
    return round(1e9 / usual) if abs(tick / usual - 1) <= NEAR_A_HALF else round(1e9 / tick)


def time(line: Logic, how: How, fields: Sequence[Field]) -> Pulses:
    """Falling edges against the ticks that the calibration pulse of their message has."""
    falls = falls_of(line)
    first = next((one for one in fields if one.name == "calibration"), None)
    if first is None:
        return pulses(falls[:1], falls[:1], float(how.numbers["tick"]), 0.5, 0.5, CALIBRATION + 1)
    tick = (first.end - first.start) / CALIBRATION
    mine = falls[(falls >= first.start) & (falls <= fields[-1].end)]
    return pulses(mine, mine, tick, 0.5, 0.5, CALIBRATION + 1)


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The pulses of a message: calibration, status, each nibble, checksum, and the request before it if there was one;
    of one that was disturbed as far as it can be read; of a request how long it is; of the slow channel nothing."""
    falls = _falls(window(line, start - 1, end + 1))
    nibbles = int(how.numbers["nibbles"])
    if len(falls) == 1:
        return [_lasting("request", start, end)]
    tick = float(falls[1] - falls[0]) / CALIBRATION if len(falls) > 1 else 0.0
    if not tick or len(falls) > MOST_PULSES or abs(tick / how.numbers["tick"] - 1) > OTHER_TICK:
        return []
    fields = [Field("calibration", int(falls[0]), int(falls[1]), None, f"{tick / 1e3:.3f} µs a tick")]
    names = ["status", *(f"nibble_{n + 1}" for n in range(nibbles)), "crc"]
    values = readable(np.diff(falls[1:]) / tick, len(names))
    for name, value, a, b in zip(names, values, falls[1:].tolist(), falls[2:].tolist(), strict=False):
        fields.append(Field(name, a, b, value, f"{value:X}"))
    before = _request(line, start) if how.numbers.get("asked") else []
    if len(falls) != nibbles + 4 or len(values) < len(names):
        rest = int(falls[1 + len(values)])
        return [*before, *fields, Field("disturbed", rest, end, fault="length")]
    fields += channel_fields(fields[2:-1], str(how.settings.get("fast_channels", "")))
    remainder = 5
    for value in values[1:-1]:
        remainder = (value & 15) ^ int(TABLE[remainder])
    wanted = remainder if how.settings.get("checksum") == "legacy" else int(TABLE[remainder])
    if values[-1] != wanted:
        place = nibbles + 2
        fields[place] = replace(fields[place], fault="crc", expected=f"{wanted:X}")
    return [*before, *fields]


MOST_PULSES, OTHER_TICK = 12, 0.3
"""A message that has more pulses is none, but one of the slow channel; nor is what has other ticks by such a share."""


def _request(line: Logic, start: int) -> list[Field]:
    """The request before a message that begins then, and how long the answer took."""
    place = int(np.searchsorted(line.edges, start)) - 1
    if place < 1:
        return []
    fall, rise = int(line.edges[place - 1]), int(line.edges[place])
    return [
        _lasting("request", fall, rise),
        Field("delay", rise, start, float(start - rise), f"{(start - rise) / 1e3:.4g} µs"),
    ]


def _lasting(name: str, begin: int, end: int) -> Field:
    """A field of which its length is all that it says."""
    return Field(name, begin, end, float(end - begin), f"{(end - begin) / 1e3:.4g} µs")


SENT = Code("sent", "SENT", read, explain, takes={
    "nibbles": "1 to 6", "checksum": ", ".join(CHECKS), "fast_channels": ", ".join(FAST_CHANNELS),
}, time=time)  # fmt: skip
