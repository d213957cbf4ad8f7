"""All media, and what is asked of whichever it is."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cache
from typing import Any

import numpy as np

from keel.media.ble import BLE
from keel.media.bursts import BURSTS
from keel.media.can import CAN
from keel.media.card import CARD
from keel.media.i2c import I2C
from keel.media.kline import KLINE
from keel.media.lin import LIN
from keel.media.manchester import MANCHESTER
from keel.media.medium import IdentForm, Medium
from keel.media.sent import SENT
from keel.media.serial import SERIAL
from keel.media.spi import SPI
from keel.media.usb import USB
from keel.model.bus import Bus, wire_ns
from keel.model.faults import Fault
from keel.model.frames import FrameBatch
from keel.model.identity import IDENT_BITS, IDENT_MASK, NO_IDENT, unpack_key
from keel.model.safe_text import plain

MEDIA: list[Medium] = [CAN, SERIAL, BLE, USB, LIN, SENT, KLINE, MANCHESTER, SPI, I2C, CARD, BURSTS]
NO_IDENT_WRITTEN = "—"
NONE = IdentForm(NO_IDENT, "none", "no identifier", 48)
RESERVED = (IdentForm(3, "wire", "talker", 48),)
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
    """When each frame ended, in ns, as measured; else None where a bit rate it was sent at is only assumed, or its bits
    are not known."""
    known = np.array([not bus.assumed for bus in buses] or [False])[batch.bus] & (batch.bits > 0)
    known &= np.array([not bus.fast_assumed for bus in buses] or [False])[batch.bus] | (batch.fast_bits == 0)
    rest = np.array([medium_of(bus).rest_bits for bus in buses] or [0])[batch.bus]
    length = wire_ns(batch.bus, batch.bits.astype(np.int64) - rest, batch.fast_bits, buses)
    begun = np.array([bus.stamp == "start" for bus in buses] or [False])[batch.bus]
    took = np.rint(length).astype(np.int64)
    if batch.duration is not None:
        measured = batch.duration > 0
        took, known = np.where(measured, batch.duration, took), known | measured
    ends = batch.time + np.where(begun, took, 0)
    return [end if is_known else None for end, is_known in zip(ends.tolist(), known.tolist(), strict=True)]


@cache
def _by_number(_media: int) -> dict[int, tuple[IdentForm, Medium | None]]:
    """Forms by number, each with its medium; for so many media."""
    found: dict[int, tuple[IdentForm, Medium | None]] = {int(form.number): (form, None) for form in (*RESERVED, NONE)}
    return found | {int(form.number): (form, medium) for medium in MEDIA for form in medium.forms}


def form_of(number: int) -> IdentForm:
    """The form of a number. One that nobody knows, as of a later Keel, is shown as it is."""
    known = _by_number(len(MEDIA)).get(number)
    return IdentForm(number, f"form-{number}", "identifier", 48) if known is None else known[0]


_OLD_WORDS = {"ble": BLE.forms[0].word, "usb": USB.forms[0].word}
"""What dictionaries called forms before there were several."""


def form_named(word: str) -> IdentForm:
    """The form that dictionaries call so.

    Raises:
        KeyError: there is none.
    """
    word = _OLD_WORDS.get(word.lower(), word.lower())
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


def medium_of_form(number: int) -> Medium | None:
    """The medium whose form it is; None of those that no medium has."""
    known = _by_number(len(MEDIA)).get(number)
    return known[1] if known is not None else None


def medium_for(bus: Bus, form: int) -> Medium:
    """The medium that a frame is of: that of its form, else that of its bus.

    A form that no medium has, on a bus of which nothing was said, as in older recordings, is of one that says nothing.
    """
    known = medium_of_form(form)
    if known is not None:
        return known
    told = medium_of(bus)
    return told if form == NO_IDENT or told is not CAN else Medium("", "frame", "bit/s", ())


def fault_sentence(medium: Medium, fault: Fault) -> str:
    """What went wrong with a frame of a medium, title first."""
    sentence = medium.faults.get(fault) or _OF_ANY_MEDIUM.get(fault, "")
    return f"{fault.title}: {sentence}" if sentence else fault.title


_OF_ANY_MEDIUM = {
    Fault.LOST: "frames were lost before they could be recorded",
    Fault.TRUNCATED: "the capture kept only the first bytes of the payload",
}


def headers_of(batch: FrameBatch, buses: Sequence[Bus]) -> list[dict[str, Any] | None]:
    """What each frame's header says, as JSON has it, by field; None for frames without one."""
    said: list[dict[str, Any] | None] = [None] * len(batch)
    if batch.header is None:
        return said
    where = batch.bus.astype(np.int64) << 8 | batch.form
    for place in np.unique(where).tolist():
        medium = medium_for(buses[place >> 8], place & 0xFF)
        rows = np.flatnonzero(where == place)
        columns = []
        for one in medium.fields:
            numbers, there = one.numbers(batch.header[rows])
            pairs = zip(numbers.tolist(), there.tolist(), strict=True)
            columns.append([one.says(number) if is_there else None for number, is_there in pairs])
        names = [one.name for one in medium.fields]
        for row, values in zip(rows.tolist(), zip(*columns, strict=True) if columns else (), strict=False):
            said[row] = dict(zip(names, values, strict=True))
    return said


def brief_of(frame: FrameBatch, bus: Bus) -> str:
    """What lists show of the header of a batch of one frame."""
    brief = medium_for(bus, int(frame.form[0])).brief
    return brief(frame) if brief is not None and frame.header is not None else ""


def read_ident(form: IdentForm, text: str) -> tuple[int, int] | None:
    """What a text says of a form's identifiers that is not written in hex digits alone; its role, or the word of the
    form, may stand behind it.

    Returns:
        The identifier and which of its bits are meant; None if the text is none of the form's.
    """
    for called in (form.role, form.word):
        base = text[: -len(called) - 1]
        if called and text.lower() == f"{base.lower()} {called}":
            if form.read is None:
                is_one = re.fullmatch(r"[0-9A-Fa-f]{1,12}", base) and int(base, 16) <= form.most
                return (int(base, 16), form.most) if is_one else None
            return form.read(base)
    return form.read(text) if form.read is not None else None


def read_range(form: IdentForm, text: str) -> tuple[int, int] | None:
    """The first and the last identifier of a range, of a form that does not write them in hex; None of other forms, and
    of what is no such range."""
    low, dots, high = text.partition("..")
    if not dots or form.read is None:
        return None
    ends = form.read(low), form.read(high)
    if ends[0] is None or ends[1] is None or ends[0][0] > ends[1][0]:
        return None
    return ends[0][0], ends[1][0]


def called(key: int, payload: bytes) -> str:
    """What a frame of an identifier says its sender is called, harmless; else its role, if its form has one."""
    _, form, _ = unpack_key(key)
    medium = medium_of_form(form)
    name = plain(medium.called(form, payload), 40) if medium is not None else ""
    return name or form_of(form).role


def format_ident(form: int, ident: int) -> str:
    """An identifier as people write it; a dash for none."""
    return NO_IDENT_WRITTEN if form == NO_IDENT else form_of(form).write(ident)


def idents_written(keys: Any) -> list[str]:
    """Many identifiers as people write them, without their buses; a dash for none.

    Args:
        keys: Keys, shape (n,).
    """
    idents, forms_of = (
        (keys & np.uint64(IDENT_MASK)).tolist(),
        (keys >> np.uint64(IDENT_BITS) & np.uint64(0xFF)).tolist(),
    )
    writers = {number: form_of(number).write for number in set(forms_of)}
    return [
        NO_IDENT_WRITTEN if form == NO_IDENT else writers[form](ident)
        for form, ident in zip(forms_of, idents, strict=True)
    ]


def key_words(key: int) -> str:
    """The identifier of a key, without its bus."""
    _, form, ident = unpack_key(key)
    return format_ident(form, ident)
