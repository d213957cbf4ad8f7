"""Conditions on what frames say of themselves in their header: ``rssi<-70``, ``channel:37``, ``type:ADV_IND``."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from difflib import get_close_matches

import numpy as np
from lark import Token

from keel.ask.nodes import NONE, SOME, Scope, Verdicts
from keel.ask.terms import COMPARISONS
from keel.ask.times import duration_ns
from keel.errors import AskError
from keel.media.every import MEDIA, medium_of_form
from keel.media.header import HeaderField
from keel.media.medium import Medium
from keel.model.frames import Mask
from keel.model.globs import Glob, unquoted

TAKEN = frozenset({"bus", "id", "name", "dir", "len", "at", "gap", "step", "bytes", "text", "data", "fault", "moved"})
"""Words that mean something else: fields called so are asked for with their medium's name before them."""


def _fields_by_word() -> dict[str, list[tuple[Medium, HeaderField]]]:
    found: dict[str, list[tuple[Medium, HeaderField]]] = {}
    for medium in MEDIA:
        for one in medium.fields:
            for word in (one.name, f"{medium.name}.{one.name}"):
                if word not in TAKEN:
                    found.setdefault(word, []).append((medium, one))
    return found


FIELDS: Mapping[str, list[tuple[Medium, HeaderField]]] = _fields_by_word()
"""The fields that a word of an ask means."""


def words_of(media: frozenset[str] | None = None) -> list[str]:
    """The words there are; for recordings of some media, theirs, a qualified one only where it must be so."""
    return [
        word
        for word, fields in FIELDS.items()
        if (media is None or any(medium.name in media for medium, _ in fields))
        and not ("." in word and word.split(".")[1] in FIELDS)
    ]


def values_of(word: str) -> list[str]:
    """The words that the fields that a word means can be."""
    fields = [field for _, field in FIELDS.get(word, ())]
    return [text for field in fields for text in (("yes", "no") if field.shown == "yes" else field.texts.values())]


def number_in(field: HeaderField, text: str) -> int | None:
    """The number that a text says of a field: a word of its own, a number, yes or no, a time; None if it is none."""
    folded = text.casefold()
    for number, word in field.texts.items():
        if word.casefold() == folded:
            return number
    if field.shown == "yes":
        return {"yes": 1, "true": 1, "1": 1, "no": 0, "false": 0, "0": 0}.get(folded)
    try:
        if field.shown == "bytes":
            return int.from_bytes(bytes.fromhex(text), "little")
        if field.shown == "hex":
            return int(text, 16)
        return int(text) if field.unit != "ns" or text.lstrip("-").isdecimal() else duration_ns(text)
    except ValueError:
        return None


@dataclass(frozen=True)
class HeaderIs:
    """``rssi<-70``; ``type:ADV_IND,SCAN_RSP`` is any of several. A frame without the field never matches."""

    word: str
    compare: str
    values: tuple[str, ...]

    def __str__(self) -> str:
        if self.compare == ":":
            return f"{self.word}:" + ",".join(str(Glob.literal(value)) for value in self.values)
        return f"{self.word}{self.compare}{Glob.literal(self.values[0])}"

    def reach(self) -> tuple[int, int]:
        """Nothing before or after matters."""
        return 0, 0

    def _of(self, form: int) -> Iterator[tuple[int, HeaderField]]:
        """The field of a form's medium, and its place."""
        medium = medium_of_form(form)
        if medium is None:
            return
        meant = [field for of, field in FIELDS[self.word] if of is medium]
        yield from ((place, field) for place, field in enumerate(medium.fields) if field in meant)

    def _numbers(self, field: HeaderField) -> list[int]:
        found = (number_in(field, value) for value in self.values)
        return [number for number in found if number is not None]

    def decide(self, scope: Scope) -> Verdicts:
        """Identifiers of which no frame can have such a number."""
        keys = scope.chunk.keys
        forms = (keys >> np.uint64(48) & np.uint64(0xFF)).astype(np.int64)
        verdicts = np.full(len(keys), NONE, np.int8)
        bounds = scope.chunk.header_bounds
        for form in np.unique(forms).tolist() if bounds is not None else ():
            assert bounds is not None
            runs = forms == form
            for place, field in self._of(form):
                least, most = bounds.least[runs, place], bounds.most[runs, place]
                can = np.zeros(len(least), np.bool_)
                for number in self._numbers(field):
                    if not field.is_number or self.compare == "!=":
                        can |= least <= most
                    elif self.compare in (":", "="):
                        can |= (least <= number) & (number <= most)
                    else:
                        edge = most if self.compare in (">", ">=") else least
                        can |= COMPARISONS[self.compare](edge, number) & (least <= most)
                verdicts[runs] = np.where(can, SOME, NONE)
        return verdicts

    def find(self, scope: Scope, low: int, high: int) -> Mask:
        """Rows whose header says so."""
        batch = scope.chunk.batch.slice(low, high)
        mask = np.zeros(high - low, np.bool_)
        for form in np.unique(batch.form).tolist() if batch.header is not None else ():
            rows = np.flatnonzero(batch.form == form)
            for _, field in self._of(form):
                assert batch.header is not None
                numbers, there = field.numbers(batch.header[rows])
                wanted = np.array(self._numbers(field), numbers.dtype)
                if self.compare in (":", "="):
                    met = np.isin(numbers, wanted)
                else:
                    # Of a comparison there is one value alone.
                    met = (
                        COMPARISONS[self.compare](numbers, wanted[0]) if len(wanted) else np.zeros(len(rows), np.bool_)
                    )
                mask[rows] = met & there
        return mask


def check_value(word: str, compare: str, value: Token) -> None:
    """Look whether a value can be one of a field's.

    Raises:
        AskError: it can not, or it has no order.
    """
    text = unquoted(value) if value.type == "STRING" else str(value)
    fields = [field for _, field in FIELDS[word]]
    fit = [field for field in fields if number_in(field, text) is not None]
    at = value.start_pos or 0
    known = sorted({said for field in fields for said in field.texts.values()}, key=str.lower)
    if not fit:
        near = get_close_matches(text, known, 3, 0.5)
        expected = near or known[:8] or [_EXPECTED.get(fields[0].shown, "a number")]
        raise AskError(at, f"“{text[:40]}” is nothing that {word} can be", tuple(expected), is_guess=bool(near))
    if compare not in (":", "=", "!=") and not any(field.is_number for field in fit):
        raise AskError(at, f"{word} has no order", (f"{word}:{text}",))


_EXPECTED = {"yes": "yes or no", "hex": "a number in hex", "bytes": "bytes in hex"}
