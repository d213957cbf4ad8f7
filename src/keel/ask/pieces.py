"""The pieces that terms are made of, read from their tokens."""

from __future__ import annotations

import re
from collections.abc import Iterable
from difflib import get_close_matches

from lark import Token

from keel.ask.nodes import Scene
from keel.ask.signals import Wanted, check_signal
from keel.ask.times import duration_ns, moment_ns
from keel.errors import AskError
from keel.model.globs import Glob, SignalGlob, unquoted

LONGEST_NUMBER = 9


def duration(item: Token) -> int:
    """A time in ns."""
    try:
        return duration_ns(item)
    except ValueError as error:
        raise AskError(item.start_pos or 0, str(error)) from None


def moment(item: Token) -> int:
    """A moment in ns, counted from the recording's zero."""
    try:
        return moment_ns(item)
    except ValueError as error:
        raise AskError(item.start_pos or 0, str(error)) from None


def place(item: Token) -> int:
    """A bit's, a byte's or a length's number."""
    if len(item) > LONGEST_NUMBER:
        raise AskError(item.start_pos or 0, f"“{item[:20]}” is beyond any payload", ("a smaller number",))
    return int(item)


def pattern(item: Token) -> tuple[int | None, ...]:
    """Bytes, None for any."""
    text = re.sub(r"\s|^0x", "", unquoted(item).lower())
    pairs = [text[i : i + 2] for i in range(0, len(text), 2)]
    if not pairs or not all(p == "??" or re.fullmatch(r"[0-9a-f]{2}", p) for p in pairs):
        raise AskError(item.start_pos or 0, f"{item} is not bytes in hex", ('"5E ?? 04"',))
    return tuple(None if p == "??" else int(p, 16) for p in pairs)


def names(items: list[Token], known: Iterable[str] | None, kind: str) -> tuple[Glob, ...]:
    """Names with wildcards, each checked against those that are known."""
    there = list(known) if known is not None else None
    for item in items:
        if there is not None and not Glob.read(item).among(there):
            raise unknown(item, there, kind)
    return tuple(map(Glob.read, items))


def unknown(word: Token, known: Iterable[str], kind: str) -> AskError:
    """Nothing is called so; what comes near is offered as it would have to be written."""
    by_lower = {name.lower(): name for name in sorted(known)}
    said = Glob.read(word).name
    near = get_close_matches(said.lower(), by_lower, 3, 0.4)
    expected = tuple(str(Glob.literal(by_lower[name])) for name in near or list(by_lower)[:6])
    return AskError(word.start_pos or 0, f"no {kind} is called “{said}”", expected, is_guess=bool(near))


def wanted(items: list[Token]) -> Wanted:
    """A value to compare with."""
    return Wanted(str(items[0]), Glob.read(items[1]))


def signal(word: Token, scene: Scene | None, value: Wanted | None = None) -> SignalGlob:
    """A signal, checked against those that are known."""
    found = SignalGlob.read(word)
    check_signal(found, word.start_pos or 0, scene, value)
    return found
