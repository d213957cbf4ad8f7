"""The line codes there are, and which of them a line seems to be in. To add one, write its file and name it here."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Mapping
from dataclasses import replace

from keel.lines.bursts import BURSTS
from keel.lines.clocked import ClockedCode
from keel.lines.code import Asked, Code, Guess, rate_words
from keel.lines.code_can import CAN, CAN_FD
from keel.lines.code_uart import UART
from keel.lines.evidence import NOTHING
from keel.lines.kline import K_LINE
from keel.lines.lin import LIN
from keel.lines.manchester import MANCHESTER
from keel.lines.pulses import BitTime, bit_time, head, resting, window
from keel.lines.sent import SENT
from keel.lines.together import CLOCKED
from keel.model.bus import Bus
from keel.model.frames import empty_batch
from keel.model.waveform import Logic

CODES: dict[str, Code] = {code.word: code for code in (CAN, CAN_FD, UART, LIN, SENT, K_LINE, MANCHESTER, BURSTS)}
EVERY: Mapping[str, Code | ClockedCode] = ChainMap(CODES, CLOCKED)  # type: ignore[arg-type]
"""Those of one wire, and those of several."""
FAR_LESS = 0.25
"""What speaks for a code is far less than what speaks for another one where it is such a share of that."""
LOOKED_AT_EDGES, IN_WHOLE = 60_000, 2
"""So many edges of a long line tell which codes are worth a try, and so many codes read it in whole."""


def guesses(logic: Logic, asked: Asked, code: str = "auto") -> list[Guess]:
    """The ways to read a line, the best first.

    Args:
        logic: The line.
        asked: What a person said of it.
        code: A code's word, or ``auto`` for all.
    """
    unit = bit_time(logic)
    if code == "auto":
        whole, of_parts = _likely(logic, unit, asked)
        found = [guess for one in whole for guess in one.read(logic, unit, asked)]
        found += of_parts if any(guess.is_told for guess in found) else []
    else:
        found = (CODES[code].named or CODES[code].read)(logic, unit, asked) or _as_named(
            CODES[code], logic, unit, asked
        )
    if code in ("can", "canfd"):
        found = [replace(guess, code=code) for guess in found]
    return sorted(found, key=lambda guess: (not guess.is_told, -guess.evidence.bits))


def _as_named(code: Code, logic: Logic, unit: BitTime | None, asked: Asked) -> list[Guess]:
    """A line that a person says is in a code of which it has no frame: it is one all the same, without frames."""
    if not any(len(part.edges) for part in logic.stretches()):
        return []
    free = code.read(logic, unit, replace(asked, rate=None, fast_rate=None)) if asked.rate is not None else []
    measured = free[0].rate if free else unit.rate if unit is not None else None
    rate = asked.rate or measured or 1.0
    bus = Bus("", max(round(rate), 1), medium=code.medium or code.word, stamp="start", assumed=asked.rate is None)
    inverted = bool(asked.inverted) if asked.inverted is not None else resting(logic)[0] == 0
    said = (f"no frame of {code.title} is on it", *rate_words(asked.rate, measured))
    settings = dict(asked.settings)
    return [Guess(code.word, rate, None, inverted, settings, empty_batch(), bus, 0.0, NOTHING, "", 0, said)]


def _likely(logic: Logic, unit: BitTime | None, asked: Asked) -> tuple[list[Code], list[Guess]]:
    """The codes that are worth a try on a line: of a long one those that make most of its begin or its middle.

    Returns:
        The codes to read all of it in; and, where far more speaks for one, what another one made of a part: there is
        nothing to be decided between them, and reading all of a line in a code that it is not in takes long.
    """
    tried = [one for one in CODES.values() if one.is_tried]
    count = len(logic.edges)
    if count <= 2 * LOOKED_AT_EDGES:
        return tried, []
    middle = count // 2
    span = int(logic.edges[middle]), int(logic.edges[middle + LOOKED_AT_EDGES])
    samples = head(logic, LOOKED_AT_EDGES), window(logic, *span)
    best: list[tuple[Code, Guess]] = []
    for one in tried:
        found = [guess for part in samples for guess in one.read(part, unit, asked)]
        if found:
            best.append((one, max(found, key=lambda guess: guess.evidence.bits)))
    best = [pair for pair in best if pair[1].evidence.bits > 0]
    best.sort(key=lambda pair: -pair[1].evidence.bits)
    bits = [guess.evidence.bits for _, guess in best]
    if best and best[0][1].is_told and all(other < FAR_LESS * bits[0] for other in bits[1:]):
        return [best[0][0]], [guess for _, guess in best[1:IN_WHOLE]]
    return [one for one, _ in best[:IN_WHOLE]], []


def is_told(found: list[Guess]) -> bool:
    """Whether the best of them can be taken for what it is."""
    return bool(found) and found[0].is_told
