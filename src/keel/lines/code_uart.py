"""Serial lines (UART, RS-232) as a line code: the rate by edges inside bytes, bits and parity by what they foretell."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from keel.errors import InputError
from keel.lines.byte_lines import ByteLine, byte_lines, time_bytes
from keel.lines.code import Asked, Code, Field, Guess, How, rate_words
from keel.lines.messages import Cut, chosen_cut, messages_of
from keel.lines.pulses import BitTime, explained, glitch_free, head, nearest_rate, window
from keel.lines.serial_clock import GLITCH
from keel.lines.uart import (
    BREAK,
    FRAMING,
    LOOKED_AT_EDGES,
    PARITIES,
    PARITY,
    USUAL,
    Reading,
    Sent,
    Serial,
    decode,
    reading,
    readings,
)
from keel.model.bus import Bus
from keel.model.frames import Times
from keel.model.waveform import Logic

ALIKE = 3.0
"""Ways to read a line are alike where no more bits speak for one than for the other."""
FEW, KEPT = 4, 0.7
"""So few bytes say little; of all edges such a share has to be left when spikes are out."""
CLEARLY, RIGHT = 40.0, 0.9
"""Where so much speaks for a way to read a line, and such a share of its bytes is right, no other is looked for."""
UNITS_NS = {"ns": 1, "us": 1_000, "ms": 1_000_000, "s": 1_000_000_000}


def read(logic: Logic, unit: BitTime | None, asked: Asked) -> list[Guess]:
    """A line read as bytes, in the ways for which most speaks."""
    found: list[Guess] = []
    attempt = 0
    for way in byte_lines(logic, asked):
        if way.attempt != attempt and _is_needless(found, way):
            if way.is_sure:
                break
            continue
        attempt = way.attempt
        found += _read(logic, way, asked)
    return sorted(found, key=lambda one: -one.evidence.bits)[:MOST_GUESSES]


def _is_needless(found: list[Guess], way: ByteLine) -> bool:
    """Whether what was found makes another attempt needless: one in which more has to be passed over than before."""
    least = 0.0 if way.is_last_resort else CLEARLY
    alike = [one for one in found if way.is_sure or one.inverted == way.inverted]
    return any(one.is_told and one.evidence.bits > least and one.explained > RIGHT for one in alike)


MOST_GUESSES = 2


def _read(logic: Logic, way: ByteLine, asked: Asked) -> list[Guess]:
    found = _ways(way, asked)
    best = found[0]
    if not len(best.sent):
        return []
    alike = [
        one for one in found[1:] if best.evidence.bits - one.evidence.bits < ALIKE and best.faulty < 0.5 and one.sent
    ]
    guesses = [_guess(way, one, asked, alike if one is best else []) for one in found[:MOST_GUESSES]]
    # What leaves out most of what a line does explains as little of it.
    kept = min(len(way.line.edges) / max(KEPT * len(logic.edges), 1.0), 1.0)
    return [replace(one, explained=one.explained * kept) for one in guesses]


def _ways(way: ByteLine, asked: Asked) -> list[Reading]:
    said = asked.settings
    if not {"bits", "parity", "stop", "order"} & set(said):
        return readings(way.line, way.clock)
    known = "bits" in said and "parity" in said
    base = Serial(way.rate) if known else _fitting(way, asked)
    how = Serial(
        way.rate,
        int(said["bits"]) if said.get("bits", "").isdecimal() else base.bits,
        _one_of("parity", said["parity"], PARITIES) if "parity" in said else base.parity,
        float(said.get("stop", base.stop)),
        _one_of("order", said.get("order", "lsb"), ("lsb", "msb")),
    )
    if not (5 <= how.bits <= 9 and how.stop in (1.0, 1.5, 2.0)) or not said.get("bits", "8").isdecimal():
        wrong = said.get("bits", how.words)
        raise InputError("--set", f"{wrong} is no way to send bytes", "5 to 9 bits, 1, 1.5 or 2 stop bits")
    return [reading(way.line, how, way.clock)]


def _fitting(way: ByteLine, asked: Asked) -> Serial:
    """The best way to read a line that keeps to what was said of bits or parity."""
    sample = head(way.line, LOOKED_AT_EDGES)
    said = asked.settings
    for one in readings(sample, way.clock):
        parity = said.get("parity", one.how.parity).lower()
        if said.get("bits", str(one.how.bits)) == str(one.how.bits) and (one.how.parity == parity):
            return one.how
    return Serial(way.rate)


def _one_of(name: str, text: str, choices: tuple[Any, ...]) -> Any:
    if text.lower() not in choices:
        raise InputError("--set", f"{name}={text}", f"one of {', '.join(choices)}")
    return text.lower()


def _cut(asked: Asked, reading: Reading) -> Cut:
    said = asked.settings
    if "delimiter" in said:
        text = said["delimiter"].lower()
        known = {"lf": 10, "crlf": 10, "cr": 13, "nul": 0}
        try:
            return Cut(delimiter=known[text] if text in known else bytes.fromhex(text)[-1])
        except (ValueError, IndexError):
            raise InputError("--set", f"delimiter={text}", "lf, cr, crlf, nul, or a byte in hex") from None
    if "length" in said:
        if not said["length"].isdecimal() or not 1 <= int(said["length"]) <= 65_536:
            raise InputError("--set", f"length={said['length']}", "a number of bytes")
        return Cut(length=int(said["length"]))
    if "length_field" in said:
        at, _, more = said["length_field"].partition("+")
        if not at.isdecimal() or not (more or "0").isdecimal() or max(int(at), int(more or 0)) > 255:
            expected = "the byte that says it, and what is added, as 1+3"
            raise InputError("--set", f"length_field={said['length_field']}", expected)
        return Cut(field=(int(at), int(more or 0)))
    if "gap" in said:
        return Cut(gap_ns=gap_ns(said["gap"]))
    return chosen_cut(reading.sent, reading.how)


def gap_ns(text: str) -> int:
    """A silence with its unit, in ns.

    Raises:
        InputError: it is none.
    """
    for unit in ("ns", "us", "ms", "s"):
        number = text.removesuffix(unit)
        if number != text:
            try:
                value = float(number)
            except ValueError:
                break
            if 0 < value * UNITS_NS[unit] < 1 << 60:
                return int(value * UNITS_NS[unit])
            break
    raise InputError("--set", f"gap={text}", "a time with its unit, as 5ms")


def _guess(way: ByteLine, reading: Reading, asked: Asked, alike: list[Reading]) -> Guess:
    how, sent = reading.how, reading.sent
    cut = _cut(asked, reading)
    frames = messages_of(sent, how, cut)
    good = sent.good
    pause = (how.length + 2) * how.bit_ns
    share = explained(way.line, sent.starts[good], _until_next(sent, pause)[good], pause)
    said = list(rate_words(asked.rate, way.measured))
    if alike and len(sent) >= FEW:
        said.append("read as well as " + ", ".join(one.how.words for one in alike[:3]))
    if len(sent) < FEW:
        said.append(f"only {len(sent)} bytes: any way to read them may be right")
    if reading.faulty > 0:
        count = int((~good).sum())
        said.append(f"{count:,} of {len(sent):,} bytes have a fault")
    settings = {"bits": how.bits, "parity": how.parity, "stop": how.stop, "order": how.order, **cut.settings}
    called = asked.rate or nearest_rate(how.rate, USUAL) or nearest_rate(how.rate) or how.rate
    bus = Bus("", max(round(called), 1), medium="serial", stamp="start", assumed=False)
    faulty = int((frames.faults != 0).sum())
    check = "with right parity" if how.parity != "none" else ""
    evidence = way.evidence(sent, how)
    return Guess(
        "uart", how.rate, None, way.inverted, settings, frames, bus, share, evidence, check, faulty,
        tuple(said), {"rate": how.rate},
    )  # fmt: skip


def _until_next(sent: Sent, pause: float) -> Times:
    """The end of each byte, or the begin of the next one where that follows before a pause."""
    ends = sent.ends.copy()
    follows = sent.starts[1:] - sent.ends[:-1] < pause
    ends[:-1][follows] = sent.starts[1:][follows]
    return ends


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The bytes of a message."""
    said = how.settings
    serial = Serial(how.numbers["rate"], said["bits"], said["parity"], said["stop"], said["order"])
    bit = serial.bit_ns
    clean = glitch_free(window(line, start - round(bit), end + round(2 * bit)), GLITCH * bit)
    # It rests before a message begins, whatever was there before.
    edges = clean.edges[clean.edges >= start]
    sent = decode(Logic(start - round(40 * bit), clean.end, 1, edges, clean.unknown), serial)
    fields = []
    for begin, stop, value, wrong in zip(sent.starts, sent.ends, sent.values, sent.faults, strict=True):
        if begin < end:
            fault = next((name for one, name in _FAULT_WORDS.items() if wrong & one), None)
            name, text = ("break", None) if wrong & BREAK else ("byte", f"{int(value):0{-(-serial.bits // 4)}X}")
            size = 2 if serial.bits > 8 else 1
            fields.append(Field(name, int(begin), int(stop), int(value), text, fault, int(value).to_bytes(size, "big")))
    return fields


_FAULT_WORDS = {BREAK: "break", FRAMING: "framing", PARITY: "parity"}
UART = Code(
    "uart", "serial", read, explain, True,
    {"bits": "5 to 9", "parity": ", ".join(PARITIES), "stop": "1, 1.5, 2", "order": "lsb, msb", "gap": "a time, as 5ms",
     "delimiter": "lf, cr, crlf, or a byte in hex", "length": "bytes",
     "length_field": "the byte that says it, and what is added, as 1+3"},
    ("line", "host", "device"), time=time_bytes, medium="serial",
)  # fmt: skip
