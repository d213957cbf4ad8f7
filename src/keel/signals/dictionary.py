"""Messages and their signals.

A signal is a bit field with a meaning: scale, offset, unit, texts for values, and a role. A message may
have one selector signal; signals with ``page`` set are there only when the selector has that value.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass
from dataclasses import field as default
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from keel.model.fields import BitField, extract
from keel.model.frames import Bytes
from keel.model.identity import Form, format_ident, pack_key

Role = Literal["value", "counter", "checksum", "flag", "constant", "selector", "text"]
GLYPHS: dict[Role, str] = {
    "value": "∿",
    "counter": "↻",
    "checksum": "Σ",
    "flag": "⚐",
    "constant": "▪",
    "selector": "⋔",
    "text": "¶",
}


@dataclass(frozen=True)
class Signal:
    """A named field of a message: physical value = raw × scale + offset."""

    name: str
    field: BitField
    scale: float = 1.0
    offset: float = 0.0
    unit: str = ""
    texts: dict[int, str] = default(default_factory=dict)
    role: Role = "value"
    page: int | None = None
    note: str = ""

    def raw(self, payloads: Bytes) -> npt.NDArray[np.int64]:
        """Raw values from payloads of shape (n, bytes)."""
        return extract(self.field, payloads)

    def values(self, payloads: Bytes) -> npt.NDArray[np.float64]:
        """Physical values from payloads of shape (n, bytes)."""
        return self.raw(payloads).astype(np.float64) * float(self.scale) + float(self.offset)

    def words(self, payload: bytes) -> str | None:
        """The value in one payload as a person reads it; None if the payload is too short for it."""
        if self.field.last_byte >= len(payload):
            return None
        raw = int(self.raw(np.frombuffer(payload, np.uint8)[None, :])[0])
        if raw in self.texts:
            return self.texts[raw]
        if self.role == "checksum":
            return f"{raw:0{(self.field.length + 3) // 4}X}"
        return f"{format_number(raw * self.scale + self.offset, self.scale)} {self.unit}".rstrip()

    def arithmetic(self, payload: bytes) -> str:
        """How the value comes about, as ``01A0 = 416 × 0.1 + 0``."""
        raw = int(self.raw(np.frombuffer(payload, np.uint8)[None, :])[0])
        shown = raw & ((1 << self.field.length) - 1)
        text = f"{shown:0{(self.field.length + 3) // 4}X} = {raw}"
        if self.scale != 1:
            text += f" × {self.scale:g}"
        if self.offset:
            text += f" {'+' if self.offset > 0 else '−'} {abs(self.offset):g}"
        return text


@dataclass(frozen=True)
class Message:
    """A message of one identifier on one bus."""

    bus: str
    form: Form
    ident: int
    name: str
    signals: tuple[Signal, ...] = ()

    @property
    def selector(self) -> Signal | None:
        """The signal that says which page the rest is, if there is one."""
        return next((s for s in self.signals if s.role == "selector"), None)

    def present(self, payload: bytes) -> list[Signal]:
        """The signals that this payload carries."""
        selector = self.selector
        page: int | None = None
        if selector is not None and selector.field.last_byte < len(payload):
            page = int(selector.raw(np.frombuffer(payload, np.uint8)[None, :])[0])
        fits = (s for s in self.signals if s.field.last_byte < len(payload))
        return [s for s in fits if s.page is None or s.page == page]


@dataclass(frozen=True)
class Dictionary:
    """What is known about the messages of a recording; immutable, changes make a new one."""

    messages: tuple[Message, ...] = ()

    def find(self, bus: str, form: int, ident: int) -> Message | None:
        """The message of an identifier, or None."""
        for message in self.messages:
            if message.ident == ident and message.form == form and message.bus == bus:
                return message
        return None

    def by_key(self, buses: list[str]) -> dict[int, Message]:
        """Messages by key, for buses in this order."""
        index = {name: i for i, name in enumerate(buses)}
        return {pack_key(index[m.bus], m.form, m.ident): m for m in self.messages if m.bus in index}

    def with_signal(self, bus: str, form: Form, ident: int, signal: Signal) -> Dictionary:
        """The dictionary with a signal added, or exchanged if the message has one of that name."""
        old = self.find(bus, form, ident)
        if old is None:
            old = Message(bus, form, ident, f"Message{format_ident(form, ident)}")
        kept = tuple(s for s in old.signals if s.name != signal.name)
        signals = sorted((*kept, signal), key=lambda s: (min(s.field.bits), s.name))
        new = Message(bus, form, ident, old.name, tuple(signals))
        rest = tuple(m for m in self.messages if (m.bus, m.form, m.ident) != (bus, form, ident))
        return Dictionary((*rest, new))

    def without_signal(self, bus: str, form: int, ident: int, name: str) -> Dictionary:
        """The dictionary without a signal."""
        messages = []
        for m in self.messages:
            if (m.bus, m.form, m.ident) == (bus, form, ident):
                m = Message(m.bus, m.form, m.ident, m.name, tuple(s for s in m.signals if s.name != name))
            messages.append(m)
        return Dictionary(tuple(messages))

    def to_json(self) -> list[dict[str, Any]]:
        """Plain data for a manifest."""
        return [
            {
                "bus": m.bus,
                "form": Form(m.form).name.lower(),
                "ident": m.ident,
                "name": m.name,
                "signals": [_signal_to_json(s) for s in m.signals],
            }
            for m in self.messages
        ]

    @classmethod
    def from_json(cls, data: list[dict[str, Any]]) -> Dictionary:
        """The inverse of `to_json`."""
        return cls(
            tuple(
                Message(
                    m["bus"],
                    Form[m["form"].upper()],
                    m["ident"],
                    m["name"],
                    tuple(_signal_from_json(s) for s in m["signals"]),
                )
                for m in data
            )
        )


def _signal_to_json(signal: Signal) -> dict[str, Any]:
    plain = asdict(signal)
    where = plain.pop("field")
    plain["texts"] = {str(raw): text for raw, text in signal.texts.items()}
    return {**where, **plain}


def _signal_from_json(data: dict[str, Any]) -> Signal:
    data = dict(data)
    where = BitField(*(data.pop(name) for name in ("start", "length", "order", "signed")))
    data["texts"] = {int(raw): text for raw, text in data["texts"].items()}
    return Signal(field=where, **data)


def format_number(value: float, step: float) -> str:
    """``value`` with as many decimals as a step of ``step`` deserves."""
    if float(step).is_integer() and float(value).is_integer():
        return f"{value:.0f}"
    decimals = 0
    most = min(int(-np.floor(np.log10(abs(step)))) + 1, 9) if 0 < abs(step) < 1 else 1
    while decimals < most and abs(round(step * 10**decimals) / (step * 10**decimals) - 1) > 1e-6:
        decimals += 1
    return f"{value:.{decimals}f}"
