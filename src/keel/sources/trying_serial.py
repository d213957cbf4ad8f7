"""Trying a serial port out: at which rate, and with which parity, what comes looks like something.

At a wrong rate stop bits are missed and bytes have few kinds of bits: what comes is marked as faulty, or is hardly ever
printable, and never begins twice alike. None of that is proof, so the doubt is said.
"""

from __future__ import annotations

import select
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from keel.sources.kind import Given, Verdict
from keel.sources.serial_line import Framing, Open, Unmarker, open_port
from keel.sources.source import SourceGone

USUAL = (9_600, 115_200, 19_200, 38_400, 57_600, 4_800, 230_400, 2_400, 460_800, 921_600, 1_200)
AT_EACH_S, ENOUGH_BYTES = 1.0, 400
SURE = 0.95
"""A look as good as this ends the search."""
FEWEST = 8
PRINTABLE = frozenset(range(0x20, 0x7F)) | {9, 10, 13}
SILENCE_S = 0.01


@dataclass(frozen=True)
class Look:
    """What the bytes at one setting look like.

    Attributes:
        count: How many came.
        faulty: The share that came with a fault.
        printable: The share that is text; without the highest bit where that is a parity.
        repeating: The share of messages that begin with the same byte as most others.
        parity: ``even`` or ``odd`` where seven bits and such a parity fit all; else ``none``.
    """

    framing: Framing
    count: int
    faulty: float
    printable: float
    repeating: float
    parity: str = "none"

    @property
    def score(self) -> float:
        """How much it looks like something, from 0 to 1."""
        if self.count < FEWEST:
            return 0.0
        clean = max(1.0 - 4.0 * self.faulty, 0.0)
        like = max(self.printable**2, 0.6 * self.repeating)
        return clean * like

    @property
    def words(self) -> str:
        """In words."""
        bits = f"7{self.parity[0].upper()}1" if self.parity != "none" else "8N1"
        return f"{self.framing.rate} bit/s {bits}"


def look_at(framing: Framing, data: bytes, faults: int, starts: list[int]) -> Look:
    """What some bytes look like.

    Args:
        framing: How they were read.
        data: The bytes.
        faults: How many came with a fault.
        starts: The first bytes after silences.
    """
    if not data:
        return Look(framing, 0, 0.0, 0.0, 0.0)
    count = len(data)
    printable = sum(byte in PRINTABLE for byte in data) / count
    parity = "none"
    if printable < 0.9:
        stripped = sum(byte & 0x7F in PRINTABLE for byte in data) / count
        even = sum(byte.bit_count() % 2 == 0 for byte in data) / count
        # Text of seven bits with a parity bit: as good as all bytes have the same parity.
        if stripped > 0.9 and (even > 0.97 or even < 0.03):
            printable, parity = stripped, "even" if even > 0.5 else "odd"
    common = Counter(starts).most_common(1)
    repeating = common[0][1] / len(starts) if len(starts) >= 3 else 0.0
    return Look(framing, count, faults / count, printable, repeating, parity)


def hear(
    path: str, framing: Framing, seconds: float, stopped: Callable[[], bool], opened: Open,
    clock: Callable[[], float] = time.monotonic,
) -> Look:  # fmt: skip
    """Listen at one rate.

    Raises:
        SourceGone: the port cannot be had.
    """
    port = opened(path, framing)
    data, faults, starts = bytearray(), 0, []
    unmarker = Unmarker(False)
    begin = last = clock()
    try:
        while clock() - begin < seconds and len(data) < ENOUGH_BYTES and not stopped():
            if not select.select([port.fileno()], [], [], 0.02)[0]:
                continue
            try:
                plain, wrong = unmarker.take(port.read(4096))
            except OSError as error:
                raise SourceGone(path, f"cannot be read ({error})") from None
            now = clock()
            if plain and (not data or now - last > SILENCE_S):
                starts.append(plain[0])
            last = now
            data += plain
            faults += len(wrong)
    finally:
        port.close()
    lines = data.split(b"\n")
    if len(lines) > 3:
        starts = [line[0] for line in lines[1:] if line]
    return look_at(framing, bytes(data), faults, starts)


def try_serial(
    given: Given, stopped: Callable[[], bool], opened: Open = open_port, seconds: float = AT_EACH_S
) -> Verdict:
    """Listen at the rate that was named, or at the usual ones, and say at which it looks like something."""
    path = given.places[0]
    rates = [given.values["rate"]] if "rate" in given.said else list(USUAL)
    looks: list[Look] = []
    for rate in rates:
        if stopped():
            break
        try:
            looks.append(hear(path, Framing(rate), seconds, stopped, opened))
        except SourceGone as error:
            return Verdict(error.what)
        if looks[-1].score >= SURE:
            break
    return judged(looks)


def judged(looks: list[Look]) -> Verdict:
    """Which of several looks it is, and how sure that is."""
    if not any(one.count for one in looks):
        return Verdict("no traffic")
    first, *others = sorted(looks, key=lambda one: -one.score)
    if first.score <= 0.2:
        rate = max(looks, key=lambda one: one.count).framing.rate
        at = f"at {rate} bit/s" if len(looks) == 1 else "at all usual rates"
        return Verdict(f"traffic, but nothing that looks like bytes {at}")
    settings: dict[str, object] = {"rate": first.framing.rate}
    if first.parity != "none":
        settings |= {"bits": 7, "parity": first.parity}
    kind = (
        f"text, {first.printable * 100:.0f} % printable"
        if first.printable > 0.9
        else "bytes, none of them text for sure"
    )
    near = [one for one in others if one.score > 0.7 * first.score]
    doubt = f"; nearly as good: {near[0].words}" if near else ""
    sure = "good" if first.score >= 0.8 and not near else "perhaps"
    notes = (f"how much it looks like something: {first.score:.2f}" + (f", next {near[0].score:.2f}" if near else ""),)
    return Verdict(f"{sure}, {first.words}: {kind}{doubt}", first.score >= 0.5, settings, notes)
