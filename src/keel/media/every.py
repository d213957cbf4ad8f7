"""All media, and what is asked of whichever it is."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from keel.media.can import CAN
from keel.media.medium import IdentForm, Medium
from keel.model.bus import Bus, wire_ns
from keel.model.frames import FrameBatch
from keel.model.identity import NO_IDENT, unpack_key

MEDIA: list[Medium] = [CAN]
NONE = IdentForm(NO_IDENT, "none", "no identifier", 48)
RESERVED = (
    IdentForm(2, "serial", "talker", 48),
    IdentForm(3, "wire", "talker", 48),
    IdentForm(4, "ble", "address", 48),
    IdentForm(5, "usb", "endpoint", 48),
)
"""Forms that recordings and dictionaries may have before there is a medium that decodes them."""


def forms() -> Iterator[IdentForm]:
    """All forms that are known."""
    for one in MEDIA:
        yield from one.forms
    yield from RESERVED
    yield NONE


def medium_of(bus: Bus) -> Medium:
    """The medium of a bus. One that nobody knows, as of a later Keel, says nothing of its frames."""
    return next((one for one in MEDIA if one.name == bus.medium), Medium(bus.medium, bus.medium, "bit/s", ()))


def ends_of(batch: FrameBatch, buses: Sequence[Bus]) -> list[int | None]:
    """When each frame ended, in ns; None where a bit rate it was sent at is only assumed, or its bits are not known."""
    known = np.array([not bus.assumed for bus in buses] or [False])[batch.bus] & (batch.bits > 0)
    known &= np.array([not bus.fast_assumed for bus in buses] or [False])[batch.bus] | (batch.fast_bits == 0)
    rest = np.array([medium_of(bus).rest_bits for bus in buses] or [0])[batch.bus]
    length = wire_ns(batch.bus, batch.bits.astype(np.int64) - rest, batch.fast_bits, buses)
    begun = np.array([bus.stamp == "start" for bus in buses] or [False])[batch.bus]
    ends = batch.time + np.where(begun, np.rint(length), 0).astype(np.int64)
    return [end if is_known else None for end, is_known in zip(ends.tolist(), known.tolist(), strict=True)]


def form_of(number: int) -> IdentForm:
    """The form of a number. One that nobody knows, as of a later Keel, is shown as it is."""
    known = next((form for form in forms() if form.number == number), None)
    return IdentForm(number, f"form-{number}", "identifier", 48) if known is None else known


def form_named(word: str) -> IdentForm:
    """The form that dictionaries call so.

    Raises:
        KeyError: there is none.
    """
    word = word.lower()
    if word.startswith("form-") and word[5:].isdecimal() and int(word[5:]) < NO_IDENT:
        return form_of(int(word[5:]))
    return {form.word: form for form in forms()}[word]


def form_with_digits(count: int) -> IdentForm | None:
    """The narrowest form that is always written with so many hex digits or more; None if there is none."""
    return min((f for f in forms() if f.digits and f.digits >= count), key=lambda f: f.digits, default=None)


def usual_form(ident: int) -> IdentForm:
    """The form of an identifier of which nothing is said: the narrowest of those with a fixed width that holds it."""
    fixed = sorted((form for form in forms() if form.digits), key=lambda form: form.bits)
    return next((form for form in fixed if ident <= form.most), fixed[-1])


def narrowest_digits() -> int:
    """The fewest hex digits that identifiers of a form are always written with."""
    return min(form.digits for form in forms() if form.digits)


def format_ident(form: int, ident: int) -> str:
    """An identifier as people write it; a dash for none."""
    return "—" if form == NO_IDENT else form_of(form).write(ident)


def key_words(key: int) -> str:
    """The identifier of a key, without its bus."""
    _, form, ident = unpack_key(key)
    return format_ident(form, ident)
