"""LIN as a line code: a break, a sync byte, an identifier with its parity, up to eight bytes and their checksum.

Source: ISO 17987-3:2016, 5.2.2.2 (break, sync), 5.2.2.4 (protected identifier), 5.2.2.6 (checksum); the bytes are those
of a serial line with eight bits and one stop bit.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.errors import InputError
from keel.lines.byte_lines import ByteLine, clearest, time_bytes
from keel.lines.code import Asked, Code, Field, Guess, How, rate_words
from keel.lines.evidence import Evidence, different_frames
from keel.lines.framing import frames_of
from keel.lines.pulses import BitTime, explained, glitch_free, nearest_rate, window
from keel.lines.serial_clock import GLITCH
from keel.lines.uart import BREAK, Sent, Serial, decode
from keel.media.lin import PROTECTED
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import FrameBatch
from keel.model.waveform import Logic

USUAL = (1_200, 2_400, 4_800, 9_600, 10_400, 19_200, 20_000)
BREAK_BITS, PAUSE_BITS = 10.5, 30
"""A break is as long as 13 bits; what is shorter than a byte is none. Responders may see one of 11."""
SYNC, MOST_DATA = 0x55, 8
DIAGNOSTIC = 0x3C
"""From this identifier on the checksum is classic, whatever others have."""
MODELS = ("classic", "enhanced")


def protected(ident: Any) -> Any:
    """Identifiers with their parity bits."""
    bits = [ident >> k & 1 for k in range(6)]
    even = bits[0] ^ bits[1] ^ bits[2] ^ bits[4]
    odd = 1 ^ bits[1] ^ bits[3] ^ bits[4] ^ bits[5]
    return ident | even << 6 | odd << 7


def checksum(total: Any) -> Any:
    """The checksum of bytes by their sum: carries are added in, all bits exchanged."""
    return 255 - np.where(total > 0, (total - 1) % 255 + 1, 0)


def read(logic: Logic, unit: BitTime | None, asked: Asked) -> list[Guess]:
    """A line read as LIN, if there are breaks with sync bytes behind them."""
    model = asked.settings.get("checksum", "").lower()
    if model not in ("", *MODELS):
        raise InputError("--set", f"checksum={model}", " or ".join(MODELS))
    return clearest(logic, asked, lambda way: _read(way, asked, model))


def _read(way: ByteLine, asked: Asked, model: str) -> Guess | None:
    line, rate = way.line, way.rate
    sent = decode(line, Serial(rate))
    frames, is_enhanced = _frames(sent, 1e9 / rate, model)
    if not len(frames):
        return None
    good = frames.faults == 0
    assert frames.duration is not None
    ends = frames.time + frames.duration
    whole = (frames.faults & ~np.uint32(Fault.NO_RESPONSE)) == 0
    share = explained(line, frames.time[whole], ends[whole], PAUSE_BITS * 1e9 / rate)
    called = asked.rate or nearest_rate(rate, USUAL) or rate
    settings = {"checksum": model or MODELS[int(2 * is_enhanced.sum() > len(is_enhanced))]}
    bus = Bus("", max(round(called), 1), medium="lin", stamp="start", assumed=False)
    faulty = int((~good).sum())
    return Guess(
        "lin", rate, None, way.inverted, settings, frames, bus, share, _evidence(way, sent, frames),
        "with a right checksum", faulty, rate_words(asked.rate, way.measured),
        {"rate": rate, "model": float(MODELS.index(model)) if model else -1.0},
    )  # fmt: skip


A_HEADER, A_CHECKSUM = 13.0, 8.0
"""Bits that a right header foretells (sync byte, its stop bit, two of parity, the break), and a right checksum."""


def _evidence(way: ByteLine, sent: Sent, frames: FrameBatch) -> Evidence:
    """What speaks for frames: each different one for itself, whatever else is on the line."""
    kept = (sent.faults & BREAK) == 0
    plain = Sent(sent.starts[kept], sent.ends[kept], sent.values[kept], sent.faults[kept])
    is_header = (frames.faults & np.uint32(Fault.SYNC | Fault.PARITY)) == 0
    is_whole = frames.faults == 0
    # Where there are many breaks, some are followed by what looks like a header.
    chance = float(np.log2(1 + (~is_header).sum()))
    headers = len(np.unique(frames.ident[is_header]))
    if not headers:
        return Evidence(0.0, 2.0)
    checksums = different_frames(frames.take(np.flatnonzero(is_whole)))
    foretold = headers * max(A_HEADER - chance, 0.0) + checksums * max(A_CHECKSUM - chance, 0.0)
    return Evidence(foretold, 2.0) + way.evidence(plain, Serial(way.rate))


def _frames(sent: Sent, bit: float, model: str) -> tuple[FrameBatch, Any]:
    """The frames among the bytes of a line; and which of the good ones have an enhanced checksum."""
    is_break = (sent.faults & BREAK != 0) & (sent.ends - sent.starts >= BREAK_BITS * bit)
    begins = np.flatnonzero(is_break)
    counts = np.minimum(np.diff(begins, append=len(sent)) - 1, MOST_DATA + 3)
    padded = np.concatenate([sent.values.astype(np.int64), np.zeros(4, np.int64)])
    sync, ident = padded[begins + 1], padded[begins + 2]
    # Of what follows the identifier the last byte is the checksum.
    lengths = np.maximum(counts - 3, 0)
    sums = np.concatenate([[0], np.cumsum(padded)])
    totals = sums[begins + 3 + lengths] - sums[begins + 3]
    given = padded[np.minimum(begins + 3 + lengths, len(padded) - 1)]
    classic, enhanced = checksum(totals) == given, checksum(totals + ident) == given
    number = ident & 0x3F
    classic_only = number >= DIAGNOSTIC
    fits = classic if model == "classic" else np.where(classic_only, classic, enhanced if model else classic | enhanced)
    has_sync = (counts >= 1) & (sync == SYNC)
    faults = np.zeros(len(begins), np.uint32)
    faults[~has_sync | (counts < 2)] = int(Fault.SYNC)
    whole = faults == 0
    faults[whole & (protected(number) != ident)] |= int(Fault.PARITY)
    faults[whole & (counts == 2)] |= int(Fault.NO_RESPONSE)
    faults[whole & (counts > 2) & ~fits] |= int(Fault.CHECKSUM)
    lengths[~whole] = 0
    number[~whole] = 0
    offsets = np.concatenate([[0], np.cumsum(lengths)])
    places = np.repeat(begins + 3 - offsets[:-1], lengths) + np.arange(offsets[-1])
    ends = sent.ends[begins + np.maximum(counts, 0)]
    data = sent.values[places].astype(np.uint8)
    batch = frames_of(sent.starts[begins], ends, PROTECTED.number, number, offsets, data, faults)
    good = faults == 0
    return batch, (enhanced & ~classic & ~classic_only)[good]


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The fields of a frame."""
    bit = 1e9 / how.numbers["rate"]
    part = glitch_free(window(line, start - round(bit), end + round(2 * bit)), GLITCH * bit)
    # It rests before a frame begins, whatever was there before.
    quiet = Logic(start - round(40 * bit), part.end, 1, part.edges[part.edges >= start], part.unknown)
    sent = decode(quiet, Serial(how.numbers["rate"]))
    # Where nobody said which checksum there is, each frame has its own.
    model = int(how.numbers.get("model", -1))
    frames, _ = _frames(sent, bit, MODELS[model] if model >= 0 else "")
    rows = [
        (int(begin), int(stop), int(value))
        for begin, stop, value in zip(sent.starts, sent.ends, sent.values, strict=True)
        if start <= begin < end
    ]
    if not rows or not len(frames):
        return []
    faults = int(frames.faults[0])
    fields = [Field("break", rows[0][0], rows[0][1])]
    for name, (begin, stop, value) in zip(("sync", "id"), rows[1:3], strict=False):
        wrong = Fault.SYNC if name == "sync" else Fault.PARITY
        fault = wrong.word if faults & wrong else None
        shown = value & 0x3F if name == "id" else value
        fields.append(Field(name, begin, stop, shown, f"{shown:02X}", fault, bytes([value])))
    data, last = rows[3:-1], rows[-1]
    if len(rows) > 3:
        said = bytes(value for _, _, value in data)
        if data:
            fields.append(Field("data", data[0][0], data[-1][1], None, said.hex().upper(), None, said))
        bad = Fault.CHECKSUM.word if faults & Fault.CHECKSUM else None
        wanted = _expected(rows[2][2], said, model) if bad else None
        fields.append(Field("checksum", *last, f"{last[2]:02X}", bad, bytes([last[2]]), wanted))
        if bad is None:
            is_classic = int(checksum(np.array(sum(said)))) == last[2]
            fields.append(Field("checksum_model", last[0], last[1], None, MODELS[not is_classic]))
    return fields


def _expected(ident: int, data: bytes, model: int) -> str:
    """The checksum that data should have; of both models where it is not known which one is meant."""
    of = [int(checksum(np.array(sum(data) + (ident if enhanced else 0)))) for enhanced in (False, True)]
    return f"{of[model]:02X}" if model >= 0 else f"{of[0]:02X} or {of[1]:02X}"


LIN = Code("lin", "LIN", read, explain, True, {"checksum": ", ".join(MODELS)}, time=time_bytes)
