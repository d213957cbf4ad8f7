"""Payloads to values and back, a column at a time.

From physical value to raw: divided, rounded to the nearest, and refused where it does not fit, never cut.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.errors import FieldError
from keel.model.fields import insert
from keel.model.frames import Bytes, Mask
from keel.signals.dictionary import Message
from keel.signals.signal import ERROR, NOT_AVAILABLE, Signal, Standing

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Decoded:
    """A signal in those of some payloads that carry it.

    Attributes:
        rows: Which payloads, ascending, shape (m,).
        raw: Raw values, shape (m,).
        values: Physical values, shape (m,); NaN where there is none.
        standing: `Standing` of each, shape (m,).
    """

    signal: Signal
    rows: Ints
    raw: Ints
    values: Floats
    standing: npt.NDArray[np.uint8]

    def __len__(self) -> int:
        return len(self.rows)

    @property
    def there(self) -> Mask:
        """Where there is a value."""
        there: Mask = self.standing == Standing.VALUE
        return there


def decode(message: Message, signal: Signal, payloads: Bytes) -> Decoded:
    """A signal of a message in payloads of one length, shape (n, bytes)."""
    if signal.field.last_byte >= payloads.shape[1]:
        nothing = np.zeros(0, np.int64)
        return Decoded(signal, nothing, nothing, np.zeros(0), np.zeros(0, np.uint8))
    there = message.rows_of(signal, payloads)
    rows = np.arange(len(payloads)) if there is None else np.flatnonzero(there)
    raw = signal.raw(payloads if there is None else payloads[rows])
    standing = signal.standing(raw)
    values = signal.physical(raw)
    values[standing != Standing.VALUE] = np.nan
    return Decoded(signal, rows, raw, values, standing)


def to_raw(signal: Signal, values: Any) -> Ints:
    """Raw values of physical ones, rounded to the nearest; NaN becomes "not available".

    Args:
        signal: The signal.
        values: Numbers, shape (n,), or texts of its value table, or "not available" or "error".

    Raises:
        FieldError: a value does not fit in the field or lies outside the signal's range; says which and how far.
    """
    given = np.asarray(values)
    if given.dtype.kind in "OUS":
        return np.array([_raw_of_text(signal, v) for v in given.ravel().tolist()], np.int64)
    numbers = given.astype(np.float64).ravel()
    missing = np.isnan(numbers)
    raw = np.zeros(len(numbers), np.int64)
    if missing.any() and signal.number == "integer":
        raw[missing] = _standing_raw(signal, NOT_AVAILABLE)
    _check_range(signal, numbers[~missing])
    if signal.number != "integer":
        plain = (numbers - signal.offset) / signal.scale
        if signal.number == "double":
            return plain.view(np.int64)
        return plain.astype(np.float32).view(np.uint32).astype(np.int64)
    whole = np.rint((numbers[~missing] - signal.offset) / signal.scale)
    field = signal.field
    low = -(2.0 ** (field.length - 1)) if field.signed else 0.0
    high = 2.0 ** (field.length - 1 if field.signed else field.length) - 1
    beyond = (whole < low) | (whole > high)
    if beyond.any():
        value = float(numbers[~missing][beyond][0])
        least, most = sorted((low * signal.scale + signal.offset, high * signal.scale + signal.offset))
        reach = f"{field.length} bits, which reach {least:g}..{most:g}"
        raise FieldError(f"{signal.name}: {value:g} does not fit in {reach}")
    if field.length == 64 and not field.signed:
        raw[~missing] = whole.astype(np.uint64).view(np.int64)
    else:
        raw[~missing] = whole.astype(np.int64)
    return raw


def _check_range(signal: Signal, numbers: Floats) -> None:
    # Half a step beyond still rounds to the bound.
    slack = abs(signal.scale) / 2 if signal.number == "integer" else 0.0
    low = -np.inf if signal.least is None else signal.least - slack
    high = np.inf if signal.most is None else signal.most + slack
    beyond = (numbers < low) | (numbers > high)
    if beyond.any():
        raise FieldError(
            f"{signal.name}: {float(numbers[beyond][0]):g} lies outside its range"
            f" {'' if signal.least is None else format(signal.least, 'g')}"
            f"..{'' if signal.most is None else format(signal.most, 'g')} {signal.unit}".rstrip()
        )


def _standing_raw(signal: Signal, word: str) -> int:
    ranges = signal.absent if word == NOT_AVAILABLE else signal.wrong
    if not ranges:
        raise FieldError(f"{signal.name} has no value for “{word}”")
    return ranges[-1][1]


def _raw_of_text(signal: Signal, value: object) -> int:
    if not isinstance(value, str):
        return int(to_raw(signal, np.array([value], np.float64))[0])
    for raw, text in signal.texts.items():
        if text.lower() == value.lower():
            return raw
    if value.lower() in (NOT_AVAILABLE, ERROR):
        return _standing_raw(signal, value.lower())
    known = ", ".join(sorted(signal.texts.values())[:6])
    raise FieldError(f"{signal.name} has no value called “{value}”" + (f"; it has {known}" if known else ""))


def encode(message: Message, values: Mapping[str, Any], payloads: Bytes) -> None:
    """Write physical values into payloads (n, bytes), in place.

    Args:
        message: What lies where.
        values: By signal name: numbers or texts, shape (n,).
        payloads: What is not written stays as it is.

    Raises:
        FieldError: there is no such signal, a value does not fit, or the payloads are too short.
    """
    for name, column in values.items():
        signal = message.signal(name)
        if signal is None:
            known = ", ".join(s.name for s in message.signals[:6])
            raise FieldError(f"{message.name} has no signal “{name}”; it has {known}")
        encode_raw(signal, to_raw(signal, column), payloads)


def encode_raw(signal: Signal, raw: Ints, payloads: Bytes) -> None:
    """Write raw values, shape (n,), into payloads (n, bytes), in place; exactly what `Signal.raw` reads."""
    insert(signal.field, payloads, raw)
