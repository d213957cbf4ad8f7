"""A kind of source: what it is called, what can be said of one, how it is opened, found and tried out."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from difflib import get_close_matches
from typing import Any

from keel.ask.times import duration_ns
from keel.errors import InputError
from keel.sources.source import Source


@dataclass(frozen=True)
class Parameter:
    """Something that can be said of a source.

    Attributes:
        name: As it is written, ``rate=9600``.
        words: What it is.
        default: What it is if nothing is said.
        choices: The values it takes; empty if ``read`` takes others.
        read: Makes a value of a text.
        takes: What texts ``read`` takes, in words.
    """

    name: str
    words: str
    default: Any
    choices: tuple[str, ...] = ()
    read: Callable[[str], Any] = str
    takes: str = "a text"

    def value(self, text: str) -> Any:
        """A text as a value.

        Raises:
            InputError: it is none.
        """
        text = text.strip()
        expected = f"one of {', '.join(self.choices)}" if self.choices else self.takes
        try:
            if self.choices and text.lower() not in self.choices:
                raise ValueError(text)
            return self.read(text.lower() if self.choices else text)
        except (ValueError, TypeError, OverflowError):
            raise InputError(self.name, f"“{text[:60]}” is none", expected) from None


def whole_number(low: int, high: int) -> tuple[Callable[[str], int], str]:
    """Reads numbers of some range, and says so."""

    def read(text: str) -> int:
        if not (text.isascii() and text.isdecimal() and len(text) < 12 and low <= int(text) <= high):
            raise ValueError(text)
        return int(text)

    return read, f"a whole number from {low} to {high}"


def yes_or_no(text: str) -> bool:
    """``yes`` or ``no``."""
    return {"yes": True, "no": False}[text]


YES_NO = ("yes", "no")


def span_ns(text: str) -> int:
    """A time with its unit, in ns."""
    return duration_ns(text)


@dataclass(frozen=True)
class Given:
    """What was said of a source: where it is, and the values of its parameters."""

    kind: str
    where: str = ""
    values: Mapping[str, Any] = field(default_factory=dict)
    said: frozenset[str] = frozenset()

    @property
    def spec(self) -> str:
        """As it can be read again."""
        return f"{self.kind}:{self.where}" if self.where else self.kind

    @property
    def places(self) -> list[str]:
        """Where it is, of one that is in several places."""
        return [place for place in self.where.split(",") if place]


@dataclass(frozen=True)
class Verdict:
    """What a try-out showed.

    Attributes:
        words: In a sentence.
        good: Whether it can be recorded so.
        settings: What was found, as parameters that it can be opened with.
        notes: What else is to be known.
    """

    words: str
    good: bool = False
    settings: Mapping[str, Any] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class Offer:
    """A source that is there: how it is named, what it is, and what is known before it is tried."""

    given: Given
    title: str
    known: str = ""
    problem: str = ""


@dataclass(frozen=True)
class Kind:
    """A kind of source.

    Attributes:
        word: As ``--from`` has it.
        title: What it is.
        where: What stands after a colon; empty if nothing may.
        needs_where: Whether something has to.
        parameters: What can be said of one.
        open: Opens one.
        there: The ones that are there.
        try_out: Listens, and says what comes; None if it cannot be tried without being recorded.
        example: How one is named.
    """

    word: str
    title: str
    open: Callable[[Given], Source]
    where: str = ""
    needs_where: bool = False
    parameters: tuple[Parameter, ...] = ()
    there: Callable[[], list[Offer]] = list
    try_out: Callable[[Given, Callable[[], bool]], Verdict] | None = None
    example: str = ""

    def given(self, where: str = "", texts: Mapping[str, str] | None = None) -> Given:
        """What was said of one, checked.

        Raises:
            InputError: the place is missing, or something said is no parameter or no value.
        """
        if where and not self.where:
            raise InputError(f"--from {self.word}:{where}", f"{self.word} stands alone", self.word)
        if self.needs_where and not where:
            raise InputError(f"--from {self.word}", f"its {self.where} is missing", self.example)
        known = {parameter.name: parameter for parameter in self.parameters}
        values = {name: parameter.default for name, parameter in known.items()}
        for name, text in (texts or {}).items():
            if name not in known:
                near = get_close_matches(name, known, 1)
                expected = near[0] if near else ", ".join(known) or "nothing"
                raise InputError(f"--from {self.word}", f"it has no “{name}”", expected)
            values[name] = known[name].value(text)
        return Given(self.word, where, values, frozenset(texts or ()))


def with_texts(kind: Kind, given: Given, texts: Mapping[str, str]) -> Given:
    """What was said of a source, and this besides.

    Raises:
        InputError: it is no value.
    """
    more = kind.given(given.where, texts)
    values = {**given.values, **{name: more.values[name] for name in texts}}
    return Given(given.kind, given.where, values, given.said | more.said)


def parse_spec(text: str) -> tuple[str, str, dict[str, str]]:
    """A source as people name it: ``serial:/dev/ttyUSB0 rate=9600``. Its kind, place, and what is said of it.

    Raises:
        InputError: it cannot be read.
    """
    try:
        first, *rest = shlex.split(text)
    except ValueError:
        raise InputError(f"--from {text!r}", "cannot be read", "a source, as bench or serial:/dev/ttyUSB0") from None
    word, _, where = first.partition(":")
    said = {}
    for part in rest:
        name, equals, value = part.partition("=")
        if not equals or not name:
            raise InputError(f"--from {text}", f"“{part}” is no setting", "name=value, as rate=9600")
        said[name.lower()] = value
    return word.lower(), where, said
