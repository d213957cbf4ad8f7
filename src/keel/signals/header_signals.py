"""Fields of a medium's headers as signals, so that they are drawn and decoded as any other.

A field that is not always there is selected by the bits that say so, as a page is by its selector.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cache

from keel.media.every import MEDIA, form_of, key_words, medium_of_form
from keel.media.header import HeaderField
from keel.model.fields import BitField
from keel.model.identity import unpack_key
from keel.signals.dictionary import Message
from keel.signals.signal import Ranges, Role, Signal


def with_header(key: int, known: Message | None) -> Message | None:
    """What is known of an identifier, with the signals of its header; None if there are neither.

    Args:
        key: The identifier.
        known: What dictionaries say of it.
    """
    _, form, ident = unpack_key(key)
    medium = medium_of_form(form)
    if medium is None or not medium.fields:
        return known
    own = _signals_of(medium.name)
    if known is None:
        role = form_of(form).role
        return Message("", form, ident, f"{key_words(key)} {role}".rstrip(), own)
    names = {signal.name for signal in known.signals}
    return replace(known, signals=(*known.signals, *(signal for signal in own if signal.name not in names)))


@cache
def _signals_of(medium: str) -> tuple[Signal, ...]:
    selectors: dict[tuple[int, int], Signal] = {}
    signals = []
    pages: Ranges
    for one in next(known.fields for known in MEDIA if known.name == medium):
        pages, selector = (), ""
        if one.when is not None:
            at, count, value = one.when
            knows = selectors.setdefault((at, count), _signal(f"knows {at}", at, count, "selector"))
            pages, selector = ((value, value),), knows.name
        made = _signal(one.name, one.start, one.bits, _role(one), one)
        signals.append(replace(made, pages=pages, selector=selector))
    return (*signals, *selectors.values())


def _role(field: HeaderField) -> Role:
    # What does not tell anything new in a list of values is shown there only with counters and checksums.
    return "constant" if field.shown in ("hex", "bytes") or field.in_bits else "flag" if field.bits == 1 else "value"


def _signal(name: str, start: int, bits: int, role: Role, field: HeaderField | None = None) -> Signal:
    made = Signal(name, BitField(start, bits, signed=field is not None and field.signed), role=role, source="header")
    if field is None:
        return made
    texts = {0: "no", 1: "yes"} if field.shown == "yes" else dict(field.texts)
    scale = 1e-6 if field.unit == "ns" else 1.0
    return replace(made, unit="ms" if field.unit == "ns" else field.unit, texts=texts, note=field.title, scale=scale)
