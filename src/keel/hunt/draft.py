"""A draft dictionary of a network that nobody described: every message, every field, as the traffic shows them.

Names are made of what a field is, its identifier and its place, so that a draft made again calls it the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from keel.hunt.candidates import are_copies
from keel.hunt.carriers import Carrier, to_byte_end
from keel.hunt.columns import Column
from keel.hunt.structure import Piece, Structure
from keel.hunt.traffic import Traffic
from keel.media.every import format_ident
from keel.model.fields import BitField, extract
from keel.model.identity import unpack_key
from keel.model.units import NS_PER_S
from keel.signals.dictionary import Dictionary, Message, nameless
from keel.signals.signal import Ranges, Role, Signal

STEADY = 0.25
"""An identifier has a cycle if, but for a tenth at either end, its steps differ by no more of their median."""
SAMPLES = 400
ALIKE = 0.999
"""Squared correlation from which two fields are looked at as copies."""
FEWEST_VALUES = 8


def draft(traffic: Traffic, buses: list[str], cancelled: Callable[[], bool] = lambda: False) -> Dictionary:
    """The dictionary that the traffic shows.

    Args:
        traffic: The frames, and their structure.
        buses: Names of the buses, by number.
        cancelled: Looked at now and then; when true, what is done so far comes back.
    """
    originals = _copies(traffic, cancelled)
    messages = []
    for key, structure in traffic.structures.items():
        if cancelled():
            break
        bus, form, ident = unpack_key(key)
        column = traffic.columns[key]
        signals = tuple(_signals(structure, column, originals))
        size = column.payloads.shape[1]
        note = f"drafted from {len(column.times) * column.every} frames"
        name = nameless(form, ident)
        messages.append(Message(buses[bus], form, ident, name, signals, size, cycle_ms=_cycle_ms(column), note=note))
    return Dictionary(tuple(messages))


def _cycle_ms(column: Column) -> float:
    """How often it is sent, as a round number of milliseconds; 0 if it comes when something happens."""
    if len(column.times) < 4:
        return 0.0
    low, usual, high = np.quantile(np.diff(column.times), [0.1, 0.5, 0.9]) / NS_PER_S * 1000 / column.every
    if high - low > STEADY * usual or usual <= 0:
        return 0.0
    step = 10.0 ** np.floor(np.log10(usual)) / 20
    return float(round(round(usual / step) * step, 6))


def signal_name(role: Role, key: int, field: BitField, page: int | None = None) -> str:
    """What a field is called that nobody named."""
    _, form, ident = unpack_key(key)
    return f"{role}_{format_ident(form, ident)}_{field.start}" + (f"_m{page}" if page is not None else "")


def _signals(
    structure: Structure, column: Column, originals: dict[tuple[int, BitField, int | None], str]
) -> Iterator[Signal]:
    """The fields of an identifier; what never moves is left out, unless it holds something."""
    several = structure.selector is not None
    for piece in structure.pieces:
        rows = structure.rows_of(piece.page, column.payloads)
        field = to_byte_end(structure, column, piece, piece.field) if piece.kind == "value" else piece.field
        raw = extract(field, column.payloads[rows])
        if not len(raw) or (piece.kind == "constant" and not _holds_something(raw, field)):
            continue
        pages: Ranges = ((piece.page, piece.page),) if several and piece.page is not None else ()
        name = signal_name(piece.kind, structure.key, field, piece.page)
        text = piece.kind == "text"
        yield Signal(
            name,
            field,
            role=piece.kind,
            pages=pages,
            algorithm=piece.algorithm if piece.kind in ("counter", "checksum") else "",
            least=None if text or field.length == 64 else float(raw.min()),
            most=None if text or field.length == 64 else float(raw.max()),
            note=originals.get((structure.key, piece.field, piece.page), ""),
            found=_how(piece, field, raw),
        )


def _holds_something(raw: np.ndarray[tuple[int], np.dtype[np.int64]], field: BitField) -> bool:
    """Whether a constant is neither all zeros nor all ones."""
    first = int(raw[0])
    return first not in (0, (1 << field.length) - 1)


def _how(piece: Piece, field: BitField, raw: np.ndarray[tuple[int], np.dtype[np.int64]]) -> str:
    """How it was found, in words."""
    seen = f"seen in the structure of {len(raw)} frames"
    if piece.kind == "constant":
        return f"{seen}: never moves"
    moving = f"{len(piece.moving)} of {field.length} bits move" if field.length > 1 else "it moves"
    return f"{seen}: {moving}, {int(np.count_nonzero(np.diff(raw)))} changes"


def _copies(
    traffic: Traffic, cancelled: Callable[[], bool] = lambda: False
) -> dict[tuple[int, BitField, int | None], str]:
    """Which fields are copies of an earlier one, in words, by identifier, field and page."""
    many = [c for c in traffic.carriers if len(np.unique(c.raw)) >= FEWEST_VALUES]
    if len(many) < 2:
        return {}
    low, high = min(int(c.times[0]) for c in many), max(int(c.times[-1]) for c in many)
    moments = np.linspace(0.0, float(high - low), SAMPLES).astype(np.int64) + low
    sampled = np.stack([c.at(moments) for c in many])
    sampled -= sampled.mean(axis=1, keepdims=True)
    sampled /= np.maximum(np.sqrt((sampled**2).sum(axis=1, keepdims=True)), 1e-12)
    close = (sampled @ sampled.T) ** 2
    found: dict[tuple[int, BitField, int | None], str] = {}
    for i, carrier in enumerate(many):
        if cancelled():
            break
        for j in np.flatnonzero(close[i, :i] >= ALIKE).tolist():
            original = many[j]
            if _place(original) not in found and are_copies(carrier, original):
                found[_place(carrier)] = _copy_words(original)
                break
    return found


def _place(carrier: Carrier) -> tuple[int, BitField, int | None]:
    return carrier.key, carrier.field, carrier.page


def _copy_words(original: Carrier) -> str:
    _, form, ident = unpack_key(original.key)
    return f"a copy of {signal_name('value', original.key, original.field, original.page)} of {nameless(form, ident)}"


def said_in_notes(dictionary: Dictionary) -> Dictionary:
    """The same with kinds, algorithms and how fields were found in their notes, where no other place says them."""
    messages = []
    for message in dictionary.messages:
        signals = []
        for signal in message.signals:
            parts = (signal.role, signal.algorithm, signal.note, signal.found)
            signals.append(replace(signal, note="; ".join(part for part in parts if part)))
        messages.append(replace(message, signals=tuple(signals)))
    return replace(dictionary, messages=tuple(messages))
