"""Checksums: a byte, or half of one, that the rest of the payload predicts exactly.

Whatever is mixed in (an initial value, a final one, an identifier, a secret constant) stays the same from frame to
frame, so it drops out of the difference of two frames: for XOR and CRC the bitwise difference, for sums the
arithmetic one. What remains is the bare algorithm, and of those there are few enough to try them all. Where the
secret changes with the counter, frames of the same count are compared.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from keel.model.fields import BitField, extract
from keel.model.frames import Bytes

PAIRS = 48
ENOUGH = 0.97
"""A checksum may be wrong in a few frames: those are what somebody looks for."""
LEAST_FRAMES = 12
FEWEST_DISTINCT = 4
LOOKED_AT = 6000

Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Checksum:
    """A checksum, and how much of the traffic it holds for.

    Attributes:
        algorithm: In words, as ``CRC-8 polynomial 1D, start FF, end FF``.
        rule: What computes it; see `expected`.
        constants: What is mixed in: one value, or one for each count of the counter.
        right: Share of the frames looked at in which it is right.
    """

    field: BitField
    algorithm: str
    rule: Rule
    constants: tuple[int, ...]
    right: float


@dataclass(frozen=True)
class Rule:
    """The bare algorithm: ``xor``, ``sum``, ``minus``, ``carry``, ``crc`` or ``table``; of bytes, or of half bytes.

    For a CRC: the polynomial, whether bits go least significant first, how many bytes of nothing follow, and
    whether bytes are taken last first.
    """

    name: str
    field: BitField
    poly: int = 0
    reflected: bool = False
    after: int = 0
    backward: bool = False


def crc_table(poly: int, reflected: bool) -> Bytes:
    """The CRC-8 of each byte, shape (256,)."""
    value = np.arange(256, dtype=np.uint16)
    if reflected:
        mirrored = int(f"{poly:08b}"[::-1], 2)
        for _ in range(8):
            value = np.where(value & 1, value >> 1 ^ mirrored, value >> 1).astype(np.uint16)
    else:
        for _ in range(8):
            value = np.where(value & 0x80, (value << 1 & 0xFF) ^ poly, value << 1).astype(np.uint16)
    return value.astype(np.uint8)


TABLES = np.stack([crc_table(poly, bool(way)) for way in range(2) for poly in range(256)]).reshape(2, 256, 256)


def bare(rule: Rule, payloads: Bytes) -> Ints:
    """What the algorithm gives for each payload with nothing mixed in, shape (n,)."""
    start, length = rule.field.start, rule.field.length
    if length == 4:
        halves = np.stack([payloads & 15, payloads >> 4], axis=2).reshape(len(payloads), -1).astype(np.int64)
        halves = np.delete(halves, start // 4, axis=1)
        if rule.name == "xor":
            return np.asarray(np.bitwise_xor.reduce(halves, axis=1), np.int64)
        return np.asarray(halves.sum(axis=1) * (-1 if rule.name == "minus" else 1) & 15, np.int64)
    if rule.name == "table":
        return np.zeros(len(payloads), np.int64)
    others = np.delete(payloads, start // 8, axis=1)
    if rule.name == "xor":
        return np.bitwise_xor.reduce(others, axis=1).astype(np.int64)
    if rule.name == "crc":
        table = TABLES[int(rule.reflected), rule.poly]
        value = np.zeros(len(payloads), np.uint8)
        for column in others.T[::-1] if rule.backward else others.T:
            value = table[value ^ column]
        for _ in range(rule.after):
            value = table[value]
        return value.astype(np.int64)
    total = others.sum(axis=1, dtype=np.int64)
    if rule.name == "carry":
        return (total - 1) % 255 + 1
    return (-total if rule.name == "minus" else total) & 255


def mixed_in(rule: Rule, payloads: Bytes) -> Ints:
    """What must have been mixed in to give the checksum that is there, shape (n,)."""
    there = _read(rule.field, payloads)
    if rule.name in ("xor", "crc"):
        return there ^ bare(rule, payloads)
    if rule.name == "carry":
        return (there - bare(rule, payloads)) % 255
    return there - bare(rule, payloads) & (1 << rule.field.length) - 1


def _read(field: BitField, payloads: Bytes) -> Ints:
    byte = payloads[:, field.start // 8].astype(np.int64)
    return byte >> field.start % 8 & (1 << field.length) - 1


def wrong(checksum: Checksum, payloads: Bytes, counts: Ints | None) -> npt.NDArray[np.bool_]:
    """In which frames the checksum is wrong, shape (n,); ``counts`` are the counter's values, if there is one."""
    constants = np.array(checksum.constants)
    there = mixed_in(checksum.rule, payloads)
    if len(constants) > 1 and counts is not None:
        return np.asarray(there != constants[counts % len(constants)])
    return np.asarray(there != constants[0])


def find_checksum(payloads: Bytes, ident: int, counters: list[BitField]) -> Checksum | None:
    """The checksum of an identifier, if its payloads have one.

    Args:
        payloads: Shape (n, bytes).
        ident: The identifier, to say whether it is mixed in.
        counters: What looks like a counter. Where nothing but the counter moves, the checksum looks like one too.
    """
    rows = payloads
    if len(rows) > LOOKED_AT:
        rows = rows[np.linspace(0, len(rows) - 1, LOOKED_AT).astype(np.int64)]
    if len(rows) < LEAST_FRAMES or rows.shape[1] < 2:
        return None
    _, distinct = np.unique(rows, axis=0, return_index=True)
    if len(distinct) < FEWEST_DISTINCT:
        return None
    distinct = np.sort(distinct)
    found: list[tuple[float, Checksum]] = []
    for field, restless in _places(rows):
        mine = set(field.bits)
        counter = next((c for c in counters if mine.isdisjoint(c.bits)), None)
        hidden = any(not mine.isdisjoint(c.bits) for c in counters)
        if hidden and (counter is None or any(not mine.issuperset(c.bits) for c in counters if c is not counter)):
            continue
        one = _try(field, rows, distinct, ident, counter) or _by_count(field, rows, counter)
        if one is not None:
            found.append((_plainness(one, rows.shape[1]) + 3 * restless, one))
    return max(found, key=lambda pair: pair[0])[1] if found else None


def _plainness(found: Checksum, size: int) -> float:
    """How usual a checksum is. XOR, negative sums and, read backward, CRCs hold for any byte seen from the others:
    that of the usual place is meant."""
    last, rule = size * 8 - 8, found.rule
    place = {last: 1.0, 0: 0.8}.get(rule.field.start // 8 * 8, 0.0)
    way = 0.0 if rule.reflected and rule.backward else 1.5 if not (rule.reflected or rule.backward) else 1.0
    return place + way + 2 * (rule.field.length == 8)


def _places(rows: Bytes) -> list[tuple[BitField, float]]:
    """Bytes and half bytes that may be one: whenever they change, something else has changed too, and most changes
    of anything else change them. With how often their bits change."""
    moved = rows[1:] ^ rows[:-1]
    changed = moved != 0
    changes = changed.sum(axis=1)
    flips = np.unpackbits(moved, axis=1, bitorder="little").mean(axis=0)
    places = []
    for length in (8, 4):
        for at in range(rows.shape[1] * 8 // length):
            field = BitField(at * length, length)
            byte = field.start // 8
            mine = (moved[:, byte] >> field.start % 8 & (1 << length) - 1) != 0
            if length == 8:
                others = changes - changed[:, byte] > 0
            else:
                others = (changes - changed[:, byte] > 0) | (moved[:, byte] & (0xF0 if at % 2 == 0 else 0x0F) != 0)
            if not others.any() or not mine.any():
                continue
            alone = np.count_nonzero(mine & ~others)
            if alone <= (1 - ENOUGH) * len(mine) and np.count_nonzero(mine & others) >= 0.6 * np.count_nonzero(others):
                places.append((field, float(flips[list(field.bits)].mean())))
    return places


def _try(field: BitField, rows: Bytes, distinct: Ints, ident: int, counter: BitField | None) -> Checksum | None:
    counts = _read_counter(counter, rows)
    others = np.delete(rows, field.start // 8, axis=1)
    moving = np.flatnonzero((others != others[0]).any(axis=0))
    # A byte that says the same as one other is a copy of it, unless that other is a counter.
    copied = len(moving) < 2 and counter is None
    for name in ("xor", "sum", "minus", "carry") if field.length == 8 else ("xor", "sum", "minus"):
        found = _judge(Rule(name, field), rows, ident, None, None)
        if found is not None:
            return None if copied else found
    if field.length != 8:
        return None
    for same_count in (False, True):
        if same_count and (counts is None or counter is None):
            break
        first, second = _pairs(rows, distinct, counts if same_count else None)
        if len(first) < 7:
            continue
        difference = np.delete(rows[first] ^ rows[second], field.start // 8, axis=1)
        wanted = rows[first, field.start // 8] ^ rows[second, field.start // 8]
        if not difference.any() or not wanted.any():
            continue
        fitting = _crcs(TABLES, difference, wanted).tolist()
        # Where little moves, several do: the plainest is taken.
        fitting.sort(key=lambda v: (v[0] + v[3], v[1] not in STANDARD, v[1] not in USUAL, v[2]))
        for reflected, poly, after, backward in fitting:
            rule = Rule("crc", field, poly, bool(reflected), after, bool(backward))
            found = _judge(rule, rows, ident, counter if same_count else None, counts if same_count else None)
            if found is not None:
                return found
    return None


def _by_count(field: BitField, rows: Bytes, counter: BitField | None) -> Checksum | None:
    """A byte that follows from the count alone, where nothing else moves: it guards the counter, somehow."""
    if counter is None or field.length != 8 or counter.length < 2 or len(rows) < 4 << counter.length:
        return None
    others = np.delete(rows, field.start // 8, axis=1)
    apart = np.flatnonzero((others != others[0]).any(axis=0))
    if len(apart) != 1 or len(np.unique(rows[:, field.start // 8])) < 0.6 * (1 << counter.length):
        return None
    return _judge(Rule("table", field), rows, ident=0, counter=counter, counts=extract(counter, rows))


def _read_counter(counter: BitField | None, rows: Bytes) -> Ints | None:
    return None if counter is None else extract(counter, rows)


def _pairs(rows: Bytes, distinct: Ints, counts: Ints | None) -> tuple[Ints, Ints]:
    """Pairs of frames that differ; of the same count if counts are given."""
    if counts is None:
        step = max(len(distinct) // (PAIRS + 1), 1)
        chosen = distinct[::step][: PAIRS + 1]
        return chosen[:-1], chosen[1:]
    order = distinct[np.argsort(counts[distinct], kind="stable")]
    same = np.flatnonzero(counts[order][1:] == counts[order][:-1])
    same = same[:: max(len(same) // PAIRS, 1)][:PAIRS]
    return order[same], order[same + 1]


def _judge(rule: Rule, rows: Bytes, ident: int, counter: BitField | None, counts: Ints | None) -> Checksum | None:
    there = mixed_in(rule, rows)
    if counts is None or counter is None:
        values, times = np.unique(there, return_counts=True)
        right = float(times.max() / len(rows))
        if right < ENOUGH:
            return None
        constant = int(values[times.argmax()])
        return Checksum(rule.field, _words(rule, constant, ident, rows.shape[1]), rule, (constant,), right)
    size = 1 << counter.length
    table = np.zeros((size, 256), np.int64)
    np.add.at(table, (counts % size, there), 1)
    right = float(table.max(axis=1).sum() / len(rows))
    if right < ENOUGH or len(rows) < 6 * size:
        return None
    constants = tuple(int(x) for x in table.argmax(axis=1))
    words = "a byte for each count" if rule.name == "table" else f"{_crc_words(rule)}, a secret byte for each count"
    return Checksum(rule.field, words, rule, constants, right)


STANDARD = {0x1D: "SAE J1850", 0x2F: "AUTOSAR 8H2F"}
USUAL = {0x1D, 0x2F, 0x07, 0x31, 0x9B, 0x39, 0xD5}
ENDS = ((0x00, 0x00), (0xFF, 0xFF), (0xFF, 0x00), (0x00, 0xFF))


def _crc_words(rule: Rule) -> str:
    words = f"CRC-8 polynomial {rule.poly:02X}"
    if rule.poly in STANDARD and not rule.reflected:
        words += f" ({STANDARD[rule.poly]})"
    return (
        words
        + (", least significant bit first" if rule.reflected else "")
        + (", last byte first" if rule.backward else "")
    )


def _words(rule: Rule, constant: int, ident: int, size: int) -> str:
    low, high = ident & 255, ident >> 8 & 255
    if rule.name == "crc":
        words = _crc_words(rule)
        table = TABLES[int(rule.reflected), rule.poly]
        for start, end in ENDS:
            value = start
            for _ in range(size - 1 + rule.after):
                value = int(table[value])
            if value ^ end == constant and not rule.after:
                return f"{words}, start {start:02X}, end {end:02X}"
            for name, ids in (
                ("its identifier", (low,)),
                ("its identifier", (low, high)),
                ("its identifier", (high, low)),
            ):
                value = start
                for byte in (*ids, *([0] * (size - 1 + rule.after))):
                    value = int(table[value ^ byte])
                if value ^ end == constant:
                    return f"{words}, start {start:02X}, end {end:02X}, {name} first"
        return f"{words}, with a constant {constant:02X}"
    names = {"xor": "XOR", "sum": "sum", "minus": "negative sum", "carry": "sum with end-around carry"}
    words = names[rule.name] + (" of the half bytes" if rule.field.length == 4 else " of the bytes")
    if constant == 0:
        return words
    if rule.name == "minus" and constant == (1 << rule.field.length) - 1:
        return "inverted sum" + words.removeprefix("negative sum")
    mixed = low ^ high if rule.name == "xor" else low + high & 255
    if constant in (mixed, low) or (rule.name != "xor" and constant == mixed + size & 255):
        return f"{words}, with its identifier"
    return f"{words}, with a constant {constant:02X}"


@njit(cache=True, nogil=True)
def _crcs(tables: Any, difference: Any, wanted: Any) -> Any:
    """Every CRC that explains the pairs: rows of (reflected, polynomial, bytes after, backward)."""
    found = []
    pairs, size = difference.shape
    for reflected in range(2):
        for poly in range(3, 256, 2):
            table = tables[reflected, poly]
            for after in range(3):
                for backward in range(2):
                    right = 0
                    for i in range(pairs):
                        value = 0
                        for k in range(size):
                            byte = difference[i, size - 1 - k] if backward else difference[i, k]
                            value = table[value ^ byte]
                        for _ in range(after):
                            value = table[value]
                        if value == wanted[i]:
                            right += 1
                        # A few frames may be wrong, and each of them spoils two pairs.
                        elif i + 1 - right > 2 + pairs // 12:
                            break
                    if right >= pairs - 2 - pairs // 12:
                        found.append((reflected, poly, after, backward))
    out = np.zeros((len(found), 4), np.int64)
    for i in range(len(found)):
        out[i, 0], out[i, 1], out[i, 2], out[i, 3] = found[i]
    return out
