"""The single-wire diagnostics line as a line code: bytes cut into messages by silence, headers and checksums where they
have some, slow and fast initialisation.

Source: ISO 14230-2:2016, 5.2 (header, length, checksum), 5.3.4 (times P1 to P4), 5.4.2 (initialisation at 5 baud, and
fast); ISO 9141-2:1994, 6.2, 7.1.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from keel.lines.byte_lines import ByteLine, clearest, time_bytes
from keel.lines.code import Asked, Code, Field, Guess, How, rate_words
from keel.lines.code_uart import gap_ns
from keel.lines.evidence import Evidence, different_frames
from keel.lines.messages import chosen_cut
from keel.lines.pulses import BitTime, explained, glitch_free, nearest_rate, window
from keel.lines.serial_clock import GLITCH
from keel.lines.uart import BREAK, FRAMING, Sent, Serial, decode
from keel.media.kline import ADDRESSED, INIT, PLAIN
from keel.model.bus import Bus
from keel.model.faults import Fault
from keel.model.frames import FrameBatch, batch_of
from keel.model.waveform import Logic

USUAL = (9_600, 10_400, 4_800, 19_200, 38_400)
MS = 1_000_000
GAP_NS = 21 * MS
"""Bytes of one message are at most 20 ms apart (P1, P4), messages at least 25 ms (P2)."""
LATEST_ANSWER_NS, P2_NS, P3_NS = 300 * MS, (24 * MS, 51 * MS), 54 * MS
"""An answer comes within P2, the next request not before P3; what is later than the first of these answers nothing."""
FAST_NS, SLOW_BIT_NS, OFF = 25 * MS, 200 * MS, 0.06
LATEST_SYNC_NS = 310 * MS
TESTERS = range(0xF0, 0xFE)
"""Addresses of testers: ISO 14230-2, annex A."""
FEWEST, MOSTLY = 3, 0.75
HEADERS_9141 = {0x68: 0x6A, 0x48: 0x6B}
"""First and second byte of requests and answers."""
KINDS = ("unknown", "iso14230", "iso9141")


@dataclass(frozen=True)
class Wake:
    """An initialisation: its address (0: a fast one), when it began and ended, the bytes behind it."""

    address: int
    begin: int
    end: int
    said: bytes
    until: int
    """The number of the first byte behind it."""


@dataclass(frozen=True)
class Parts:
    """A message taken apart: bytes of its header, form and identifier, whether its checksum fits."""

    header: int
    form: int
    ident: int
    fits: bool


def read(logic: Logic, unit: BitTime | None, asked: Asked, is_named: bool = False) -> list[Guess]:
    """A line read as one for diagnostics; without headers that are known only if a person named it."""
    return clearest(logic, asked, lambda way: _read(way, asked, is_named))


def _read(way: ByteLine, asked: Asked, is_named: bool) -> Guess | None:
    line, rate = way.line, way.rate
    sent = _without_breaks(decode(line, Serial(rate)))
    wakes = _wakes(line, sent)
    if not len(sent):
        return None
    said = asked.settings
    cut = gap_ns(said["gap"]) if "gap" in said else 0
    begins, stops = _messages(sent, wakes, cut or GAP_NS)
    kind = _kind(sent, begins, stops)
    if kind == "unknown" and not is_named:
        return None
    if kind == "unknown" and not cut:
        chosen = chosen_cut(sent, Serial(rate))
        begins, stops = _messages(sent, wakes, chosen.gap_ns or GAP_NS)
    frames = _frames(sent, begins, stops, wakes, kind)
    good = frames.faults == 0
    assert frames.duration is not None
    share = explained(line, frames.time[good], (frames.time + frames.duration)[good], GAP_NS)
    called = asked.rate or nearest_rate(rate, USUAL) or rate
    bus = Bus("", max(round(called), 1), medium="kline", stamp="start", assumed=False)
    faulty = int((~good).sum())
    evidence = way.evidence(sent, Serial(rate))
    if kind != "unknown":
        right = different_frames(frames.take(np.flatnonzero(good & (frames.form != INIT.number))))
        evidence += Evidence(right * A_MESSAGE + len(wakes) * A_WAKE, 2.0)
    check = "with a right checksum" if kind != "unknown" else ""
    return Guess(
        "kline", rate, None, way.inverted, {"header": kind}, frames, bus, share, evidence, check, faulty,
        rate_words(asked.rate, way.measured),
        {"rate": rate},
    )  # fmt: skip


A_MESSAGE, A_WAKE = 11.0, 8.0
"""Bits that a right message foretells (checksum and length), and an initialisation by the lengths of its pulses."""


def _without_breaks(sent: Sent) -> Sent:
    """Long stays at low are no bytes: they wake the line up."""
    kept = (sent.faults & BREAK) == 0
    return Sent(sent.starts[kept], sent.ends[kept], sent.values[kept], sent.faults[kept])


def _wakes(line: Logic, sent: Sent) -> list[Wake]:
    """The initialisations of a line."""
    edges, found = line.edges, []
    at = line.start
    falls = np.flatnonzero(np.diff(edges) >= FAST_NS * (1 - OFF))
    for place in falls.tolist():
        begin = int(edges[place])
        if line.first ^ (place + 1) & 1 or begin < at:
            continue
        low = int(edges[place + 1]) - begin
        high = int(edges[place + 2] - edges[place + 1]) if place + 2 < len(edges) else 0
        wake = None
        if abs(low / FAST_NS - 1) < OFF and abs(high / FAST_NS - 1) < OFF:
            end = int(edges[place + 2])
            wake = Wake(0, begin, end, b"", int(np.searchsorted(sent.starts, end)))
        elif abs(low / SLOW_BIT_NS - max(round(low / SLOW_BIT_NS), 1)) < OFF * 2:
            wake = _slow(line, sent, begin)
        if wake is not None:
            found.append(wake)
            at = wake.end
    return found


def _slow(line: Logic, sent: Sent, begin: int) -> Wake | None:
    """A 5-baud address that begins there, and the sync and key bytes behind it; None if there is none."""
    end = begin + round(9.5 * SLOW_BIT_NS)
    part = window(line, begin - 1, end)
    if len(part.edges) > 10 or (np.diff(part.edges) < SLOW_BIT_NS * 0.8).any():
        return None
    levels = [line.level_at(begin + round((k + 0.5) * SLOW_BIT_NS)) for k in range(10)]
    if levels[0] or not levels[9]:
        return None
    address = sum(level << k for k, level in enumerate(levels[1:9]))
    first = int(np.searchsorted(sent.starts, end))
    values = sent.values[first : first + 5].tolist()
    if len(values) < 3 or values[0] != 0x55 or sent.starts[first] - end > LATEST_SYNC_NS + SLOW_BIT_NS:
        return Wake(address, begin, begin + 10 * SLOW_BIT_NS, b"", first)
    count = 3
    for wanted in (values[2] ^ 0xFF, address ^ 0xFF):
        if len(values) > count and values[count] == wanted:
            count += 1
        else:
            break
    return Wake(address, begin, int(sent.ends[first + count - 1]), bytes(values[:count]), first + count)


def _messages(sent: Sent, wakes: list[Wake], gap: int) -> tuple[Any, Any]:
    """The first byte of each message, and that behind its last one; bytes of initialisations belong to none."""
    breaks = np.concatenate([[True], sent.starts[1:] - sent.ends[:-1] >= gap])
    mine = np.ones(len(sent), np.bool_)
    for wake in wakes:
        low = int(np.searchsorted(sent.starts, wake.begin))
        mine[low : wake.until] = False
        if wake.until < len(sent):
            breaks[wake.until] = True
    begins = np.flatnonzero(breaks & mine)
    after = np.append(np.flatnonzero(breaks | ~mine), len(sent))
    stops = after[np.searchsorted(after, begins, side="right")] if len(begins) else begins
    return begins, stops


def _parts(data: bytes, kind: str) -> Parts | None:
    """A message by its header; None if it cannot have one."""
    if len(data) < 2:
        return None
    fits = sum(data[:-1]) & 0xFF == data[-1]
    if kind == "iso9141":
        is_one = len(data) >= 5 and HEADERS_9141.get(data[0]) == data[1]
        return Parts(3, ADDRESSED.number, data[1] << 8 | data[2], fits) if is_one else None
    mode, length = data[0] >> 6, data[0] & 0x3F
    header = 1 if mode == 0 else 3
    if not length:
        if len(data) <= header:
            return None
        length, header = data[header], header + 1
    if mode == 1 or len(data) != header + length + 1:
        return None
    if mode == 0:
        return Parts(header, PLAIN.number, data[0], fits)
    return Parts(header, ADDRESSED.number, data[1] << 8 | data[2], fits)


def _kind(sent: Sent, begins: Any, stops: Any) -> str:
    """Which headers most messages have."""
    whole = sent.values.astype(np.uint8).tobytes()
    looked = [whole[a:b] for a, b in zip(begins[:2_000].tolist(), stops[:2_000].tolist(), strict=True)]
    for kind in KINDS[1:]:
        parts = [_parts(data, kind) for data in looked]
        if sum(1 for one in parts if one is not None and one.fits) >= max(FEWEST, MOSTLY * len(looked)):
            return kind
    return "unknown"


def _frames(sent: Sent, begins: Any, stops: Any, wakes: list[Wake], kind: str) -> FrameBatch:
    whole = sent.values.astype(np.uint8).tobytes()
    framing = np.concatenate([[0], np.cumsum((sent.faults & FRAMING) != 0)])
    rows: list[tuple[int, int, int, int, bytes, int]] = []
    before: tuple[int, bool] | None = None
    for a, b in zip(begins.tolist(), stops.tolist(), strict=True):
        data, start, end = whole[a:b], int(sent.starts[a]), int(sent.ends[b - 1])
        fault = int(Fault.FRAMING) if framing[b] > framing[a] else 0
        parts = _parts(data, kind) if kind != "unknown" else None
        if kind == "unknown":
            rows.append((start, end, PLAIN.number, data[0], data[1:], fault))
            continue
        if parts is None:
            # Cut, or of another kind: what there is, by its first byte.
            rows.append((start, end, PLAIN.number, data[0], data[1:], fault | int(Fault.CHECKSUM)))
            before = None
            continue
        fault |= 0 if parts.fits else int(Fault.CHECKSUM)
        asks = parts.form == ADDRESSED.number and parts.ident & 0xFF in TESTERS
        if before is not None and _is_untimely(start - before[0], before[1], asks):
            fault |= int(Fault.TIMING)
        before = end, asks
        rows.append((start, end, parts.form, parts.ident, data[parts.header : -1], fault))
    rows += [(wake.begin, wake.end, INIT.number, wake.address, wake.said[1:3], 0) for wake in wakes]
    rows.sort(key=lambda row: row[0])
    starts = np.array([row[0] for row in rows], np.int64)
    return batch_of(
        starts, [row[3] for row in rows], [row[4] for row in rows], form=np.array([row[2] for row in rows], np.uint8),
        dlc=0, faults=np.array([row[5] for row in rows], np.uint32),
        duration=np.array([row[1] for row in rows], np.int64) - starts,
    )  # fmt: skip


def _is_untimely(silence: int, asked: bool, asks: bool) -> bool:
    """Whether a message comes too soon or too late after the one before."""
    if asks:
        return silence < P3_NS
    if asked:
        return not P2_NS[0] <= silence <= P2_NS[1] and silence < LATEST_ANSWER_NS
    return False


def explain(line: Logic, how: How, start: int, end: int) -> list[Field]:
    """The bytes of a message by what they are; of an initialisation its sync and key bytes."""
    bit = 1e9 / how.numbers["rate"]
    part = glitch_free(window(line, start - round(bit), end + round(2 * bit)), GLITCH * bit)
    # It rests before a message begins, whatever was there before.
    quiet = Logic(start - round(40 * bit), part.end, 1, part.edges[part.edges >= start], part.unknown)
    sent = decode(quiet, Serial(how.numbers["rate"]))
    rows = [
        (int(a), int(b), int(value), int(fault))
        for a, b, value, fault in zip(sent.starts, sent.ends, sent.values, sent.faults, strict=True)
        if a < end
    ]
    if any(fault & BREAK for *_, fault in rows):
        spoken = [row for row in rows if not row[3] & BREAK and row[0] - start > FAST_NS]
        if spoken and spoken[0][2] != 0x55:
            spoken = []
        names = ("sync", "key_1", "key_2", "key_2_inverted", "address_inverted")
        until = spoken[0][0] if spoken else end
        named = [_field(name, row) for name, row in zip(names, spoken, strict=False)]
        return [Field("wake_up", start, until), *named]
    data = bytes(value for _, _, value, _ in rows)
    kind = str(how.settings.get("header", "unknown"))
    parts = _parts(data, kind) if kind != "unknown" else None
    if parts is None:
        return [_field("byte", row) for row in rows]
    heads = ["format", *(["target", "source"] if parts.form == ADDRESSED.number else [])]
    heads += ["length"] if len(heads) < parts.header else []
    fields = [_field(name, row) for name, row in zip(heads, rows, strict=False)]
    body = rows[parts.header : -1]
    if body:
        said = data[parts.header : -1]
        fields.append(Field("data", body[0][0], body[-1][1], None, said.hex().upper(), None, said))
    last = _field("checksum", rows[-1])
    wrong = None if parts.fits else Fault.CHECKSUM.word
    expected = None if parts.fits else f"{sum(data[:-1]) & 0xFF:02X}"
    return [*fields, replace(last, fault=wrong or last.fault, expected=expected)]


def _field(name: str, row: tuple[int, int, int, int]) -> Field:
    start, end, value, fault = row
    wrong = Fault.FRAMING.word if fault & FRAMING else None
    return Field(name, start, end, value, f"{value:02X}", wrong, bytes([value & 0xFF]))


K_LINE = Code(
    "kline", "K-line", read, explain, True, {"gap": "a time, as 5ms"},
    named=lambda logic, unit, asked: read(logic, unit, asked, is_named=True), time=time_bytes,
)  # fmt: skip
