"""How numbers are sent: the scales and offsets that are usual, packed decimal, floating point; and what a typed number
may mean."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Encoding:
    """Value = raw × scale + offset; ``decimals`` makes it packed decimal with so many digits after the point.

    ``cost`` is how unusual it is, in nats.
    """

    scale: float
    offset: float
    cost: float
    decimals: int | None = None
    is_float: bool = False

    @property
    def is_linear(self) -> bool:
        """Whether scale and offset say it."""
        return self.decimals is None

    def raw(self, low: float, high: float) -> tuple[int, int]:
        """The least and greatest raw value of what lies from ``low`` to ``high``; empty where the first is greater."""
        if self.decimals is not None:
            a, b = (x * 10.0**self.decimals for x in (low, high))
            first, last = int(np.ceil(a - 1e-9)), int(np.floor(b + 1e-9))
            if first < 0 or last < first or last >= 10**15:
                return 1, 0
            return int(str(first), 16), int(str(last), 16)
        a, b = ((x - self.offset) / self.scale for x in (low, high))
        if not (abs(a) < 2.0**62 and abs(b) < 2.0**62):
            return 1, 0
        slack = 1e-9 * max(abs(a), 1.0)
        return int(np.ceil(a - slack)), int(np.floor(b + slack))


ENCODINGS: tuple[Encoding, ...] = tuple(
    Encoding(scale, offset, cost)
    for scale, offset, cost in (
        (1.0, 0.0, 0.0),
        (0.1, 0.0, 0.7),
        (0.01, 0.0, 0.9),
        (0.5, 0.0, 1.2),
        (0.25, 0.0, 1.6),
        (0.125, 0.0, 1.6),
        (0.001, 0.0, 1.4),
        (0.05, 0.0, 1.8),
        (0.02, 0.0, 1.8),
        (0.005, 0.0, 2.0),
        (0.002, 0.0, 2.0),
        (0.2, 0.0, 1.8),
        (0.4, 0.0, 1.6),
        (2.0, 0.0, 1.8),
        (5.0, 0.0, 2.0),
        (10.0, 0.0, 1.8),
        (1 / 256, 0.0, 2.0),
        (1 / 128, 0.0, 2.2),
        (1 / 64, 0.0, 2.2),
        (1 / 32, 0.0, 2.2),
        (1 / 16, 0.0, 2.2),
        (1.0, -40.0, 1.2),
        (1.0, -50.0, 1.8),
        (0.5, -40.0, 2.0),
        (0.1, -40.0, 2.0),
        (1.0, -125.0, 2.2),
        (1.0, -273.0, 2.2),
        (0.1, -273.0, 2.2),
        (0.03125, -273.0, 2.2),
        (0.1, -100.0, 2.4),
        (0.1, -1000.0, 2.4),
        (1.0, -1000.0, 2.4),
    )
) + tuple(Encoding(1.0, 0.0, 2.0 + 0.3 * more, decimals=more) for more in range(4))
FLOATING = Encoding(1.0, 0.0, 0.0, is_float=True)


def words_of(encoding: Encoding | None) -> str:
    """How a number is sent, where that needs saying."""
    if encoding is None:
        return ""
    if encoding.is_float:
        return " as a floating-point number"
    return " as packed decimal (BCD)" if encoding.decimals is not None else ""


@dataclass(frozen=True)
class Typed:
    """A number as a person typed it, and what it is taken for: half a step of its last digit to either side."""

    text: str
    value: float
    decimals: int

    @property
    def low(self) -> float:
        """The least it may be."""
        return self.value - 0.5 * 10.0**-self.decimals

    @property
    def high(self) -> float:
        """The most it may be."""
        return self.value + 0.5 * 10.0**-self.decimals

    @property
    def words(self) -> str:
        """What it is taken for, in words."""
        shown = self.decimals + 1 if self.decimals else 1
        return f"typed {self.text}, taken as {self.low:.{shown}f} to {self.high:.{shown}f}"

    def others(self, count: int) -> list[Typed]:
        """Other numbers of as many digits, to see how easily one is found by chance."""
        random = np.random.default_rng(25)
        size = max(abs(self.value), 10.0**-self.decimals)
        found: dict[float, Typed] = {}
        for _ in range(20 * count):
            value = round(
                float(np.sign(self.value) or 1.0) * size * float(np.exp(random.uniform(-0.7, 0.7))), self.decimals
            )
            if abs(value - self.value) > 1.5 * 10.0**-self.decimals and value not in found:
                found[value] = Typed(f"{value:.{self.decimals}f}", value, self.decimals)
            if len(found) == count:
                break
        return list(found.values())


def typed(text: str) -> Typed | None:
    """A number as it was typed, with point or comma; None for what is a text."""
    plain = text.strip().replace(",", ".")
    if not re.fullmatch(r"[+-]?(\d+\.?\d*|\.\d+)", plain) or len(plain) > 20:
        return None
    decimals = len(plain.split(".")[1]) if "." in plain else 0
    return Typed(text.strip(), float(plain), decimals)
