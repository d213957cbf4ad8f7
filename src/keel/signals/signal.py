"""One signal: a bit field with a meaning.

Physical value = raw × scale + offset. Some raw values are not values: a sender says "not available" or "error" with
them. What these mean for a number column: `Standing`.
"""

from __future__ import annotations

from dataclasses import dataclass
from dataclasses import field as default
from enum import IntEnum
from typing import Literal

import numpy as np
import numpy.typing as npt

from keel.model.extensible import Extensible
from keel.model.fields import BitField, extract
from keel.model.frames import Bytes, Mask

Role = Literal["value", "counter", "checksum", "flag", "constant", "selector", "text"]
Number = Literal["integer", "float", "double"]
Ranges = tuple[tuple[int, int], ...]
"""First and last raw value, both included."""
GLYPHS: dict[Role, str] = {
    "value": "∿",
    "counter": "↻",
    "checksum": "Σ",
    "flag": "⚐",
    "constant": "▪",
    "selector": "⋔",
    "text": "¶",
}
NOT_AVAILABLE, ERROR = "not available", "error"


class Standing(IntEnum):
    """Whether a raw value is a value."""

    VALUE = 0
    NOT_AVAILABLE = 1
    ERROR = 2


@dataclass(frozen=True)
class Signal(Extensible):
    """A named field of a message.

    Attributes:
        texts: What raw values are called.
        pages: For a signal that is there only at times: the selector's values for it.
        selector: Which signal selects it; empty for the message's only one.
        number: Whether the bits are an integer or an IEEE 754 number of 32 or 64 bits.
        least: The least physical value that makes sense; None if nothing is said. ``most`` likewise.
        absent: Raw values that mean "not available".
        wrong: Raw values that mean "error".
        algorithm: How a counter counts or a checksum is made.
        note: What else is to be said.
        found: How it was found, if it was found with Keel.
        source: Where its bits lie: in the payload, or in the header of its kind of line.
    """

    name: str
    field: BitField
    scale: float = 1.0
    offset: float = 0.0
    unit: str = ""
    texts: dict[int, str] = default(default_factory=dict)
    role: Role = "value"
    pages: Ranges = ()
    note: str = ""
    selector: str = ""
    number: Number = "integer"
    least: float | None = None
    most: float | None = None
    absent: Ranges = ()
    wrong: Ranges = ()
    algorithm: str = ""
    receivers: tuple[str, ...] = ()
    found: str = ""
    source: Literal["payload", "header"] = "payload"

    def raw(self, payloads: Bytes) -> npt.NDArray[np.int64]:
        """Raw values from payloads of shape (n, bytes)."""
        return extract(self.field, payloads)

    def values(self, payloads: Bytes) -> npt.NDArray[np.float64]:
        """Physical values from payloads of shape (n, bytes)."""
        return self.physical(self.raw(payloads))

    def physical(self, raw: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
        """Physical values of raw ones, shape (n,); also of those that stand for no value."""
        return self.numbers(raw) * float(self.scale) + float(self.offset)

    def numbers(self, raw: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
        """Raw values as numbers, before scale and offset."""
        if self.number == "float":
            return raw.astype(np.uint32).view(np.float32).astype(np.float64)
        if self.number == "double":
            return raw.view(np.float64).copy()
        if self.field.length == 64 and not self.field.signed:
            return raw.view(np.uint64).astype(np.float64)
        return raw.astype(np.float64)

    def standing(self, raw: npt.NDArray[np.int64]) -> npt.NDArray[np.uint8]:
        """`Standing` of each raw value; an IEEE number that is not a number counts as not available."""
        found = np.zeros(len(raw), np.uint8)
        if self.number != "integer":
            found[np.isnan(self.numbers(raw))] = Standing.NOT_AVAILABLE
        found[within(raw, self.absent)] = Standing.NOT_AVAILABLE
        found[within(raw, self.wrong)] = Standing.ERROR
        return found

    @property
    def is_plain(self) -> bool:
        """Whether every raw value is a value."""
        return not self.absent and not self.wrong and self.number == "integer"

    def words(self, payload: bytes) -> str | None:
        """The value in one payload as a person reads it; None if the payload is too short for it."""
        if self.field.last_byte >= len(payload):
            return None
        return self.words_of(self._raw_of(payload))

    def words_of(self, raw: int) -> str:
        """A raw value as a person reads it."""
        if raw in self.texts:
            return self.texts[raw]
        one = np.array([raw], np.int64)
        standing = int(self.standing(one)[0])
        if standing:
            return NOT_AVAILABLE if standing == Standing.NOT_AVAILABLE else ERROR
        if self.role == "checksum":
            return f"{raw & ((1 << self.field.length) - 1):0{(self.field.length + 3) // 4}X}"
        return f"{self.number_words(float(self.physical(one)[0]))} {self.unit}".rstrip()

    def number_words(self, value: float) -> str:
        """A physical value with the digits that its steps deserve."""
        if self.number != "integer":
            return f"{value:.7g}" if self.number == "float" else f"{value:.12g}"
        return format_number(value, self.scale)

    def arithmetic(self, payload: bytes) -> str:
        """How the value comes about, as ``bits 7–0, 15–12 big: 1A0 hex = 416; × 0.1 = 41.6 °``."""
        taken, scaled, value = self.steps(payload)
        return f"{taken}{scaled}{value}"

    def steps(self, payload: bytes) -> tuple[str, str, str]:
        """The pieces of `arithmetic`: the bits taken and the raw value, the scaling, what comes out."""
        raw, field = self._raw_of(payload), self.field
        shown = raw & ((1 << field.length) - 1)
        digits = f"{shown:b}" if field.length < 4 else f"{shown:0{(field.length + 3) // 4}X}"
        base = "bin" if field.length < 4 else "hex"
        where, words = f"{bits_words(field)}: ", self.words_of(raw)
        if self.role == "checksum":
            return f"{where}", "", f"{digits} {base}"
        number = f"{float(self.numbers(np.array([raw], np.int64))[0]):.9g}" if self.number != "integer" else str(raw)
        same = digits == number
        if self.number != "integer":
            taken = f"{where}{digits} {base} = {self.number} {number}"
        else:
            taken = where + (digits if same else f"{digits} {base} = {number}")
        if raw in self.texts:
            return taken, " = ", f"“{self.texts[raw]}”"
        if self.scale != 1 or self.offset:
            how = f"× {self.scale:.10g} " if self.scale != 1 else ""
            how += f"{'+' if self.offset > 0 else '−'} {abs(self.offset):.10g} " if self.offset else ""
            return taken, f"; {how}= ", words
        if words in (number, f"{number} {self.unit}"):
            # What comes out is the raw value, with its unit.
            return taken.removesuffix(number), "", words
        return taken, " = ", words

    def _raw_of(self, payload: bytes) -> int:
        raw = int(self.raw(np.frombuffer(payload, np.uint8)[None, :])[0])
        return raw % (1 << 64) if self.field.length == 64 and not self.field.signed else raw


def within(raw: npt.NDArray[np.int64], ranges: Ranges) -> Mask:
    """Which raw values lie in one of the ranges."""
    found = np.zeros(len(raw), np.bool_)
    for low, high in ranges:
        found |= (raw >= low) & (raw <= high) if low != high else raw == low
    return found


def bits_words(field: BitField) -> str:
    """The bits a field takes, as they lie in the payload: ``byte 1 bits 7–4`` or ``bits 7–0, 15–12 big``."""
    if field.length == 1:
        return f"bit {field.start}"
    runs: list[list[int]] = []
    for bit in reversed(field.bits):
        if runs and runs[-1][-1] - bit == 1:
            runs[-1].append(bit)
        else:
            runs.append([bit])
    words = ", ".join(f"{run[0]}–{run[-1]}" if len(run) > 1 else f"{run[0]}" for run in runs[:3])
    if len(runs) > 3:
        words = f"{field.length} bits from {field.start}"
    return f"bits {words}" + (f" {field.order}" if len(field.pieces) > 1 else "")


def format_number(value: float, step: float) -> str:
    """``value`` with as many decimals as a step of ``step`` deserves."""
    if not np.isfinite(value):
        return str(value)
    if float(step).is_integer() and float(value).is_integer():
        return f"{value:.0f}"
    decimals = 0
    most = min(int(-np.floor(np.log10(abs(step)))) + 1, 9) if 0 < abs(step) < 1 else 1
    while decimals < most and abs(round(step * 10**decimals) / (step * 10**decimals) - 1) > 1e-6:
        decimals += 1
    return f"{value:.{decimals}f}"
