"""Reading an ask: grammar, checks, and errors that say where, what, and what was meant."""

from __future__ import annotations

import re
from collections.abc import Iterable
from decimal import Decimal
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import cache
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Transformer
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, VisitError

from keel.ask import context, nodes, terms
from keel.ask.nodes import Node, Scene
from keel.ask.signals import SignalIs, SignalMoves, Wanted, check_signal
from keel.errors import AskError
from keel.model.faults import FAULT_BY_WORD
from keel.model.identity import Form

UNITS_NS = {
    "ns": 1,
    "us": 1_000,
    "µs": 1_000,
    "ms": 1_000_000,
    "s": 1_000_000_000,
    "min": 60_000_000_000,
    "h": 3_600_000_000_000,
}
TERMS = (
    "id:",
    "bus:",
    "name:",
    "dir:",
    "len",
    "bytes:",
    "bytes@",
    "text:",
    "fault",
    "fault:",
    "moved",
    "moved@",
    "bit@",
    "gap",
    "step",
    "at:",
    "rises:",
    "falls:",
    "changes:",
    "becomes:",
    "near(",
    "then",
    "within",
    "not",
    "or",
    "and",
)
_EXPECTED = {
    "ID_ITEM": "an identifier in hex, as 1A0 or 1A0..1AF or 18FE??17",
    "WORD": "a name",
    "DIRECTION": "rx or tx",
    "COMPARE": "one of > >= < <= = !=",
    "NUMBER": "a number",
    "HEX": 'bytes in hex, as "B0 ?? 04"',
    "STRING": 'text in quotes ("")',
    "DURATION": "a time with its unit, as 120ms",
    "MOMENT": "a time with its unit, as 12.5s",
    "_RANGE": "..",
    "_COLON": ":",
    "_CLOSE": "a closing parenthesis",
    "_WITHIN": "within, and a time as 50ms",
    "BIT": "0 or 1",
    "SIGNAL": "a signal, as BowRamp.angle",
    "SAME": "= and a value",
    "VALUE": "a value",
}


@cache
def _grammar() -> Lark:
    text = files("keel.ask").joinpath("grammar.lark").read_text(encoding="utf-8")
    return Lark(text, parser="lalr", lexer="contextual", propagate_positions=True, maybe_placeholders=True)


def parse(text: str, scene: Scene | None = None) -> Node:
    """The condition that ``text`` states; the empty text asks for everything.

    Args:
        text: The ask.
        scene: Buses and names to check against; without it any name is taken.

    Raises:
        AskError: it does not parse or names what is not there; carries the position and what was expected.
    """
    try:
        tree = _grammar().parse(text)
    except UnexpectedInput as error:
        raise _explain(text, error) from None
    try:
        node: Node = _Build(scene).transform(tree)
    except VisitError as error:
        if isinstance(error.orig_exc, AskError):
            raise error.orig_exc from None
        raise
    return node


def _explain(text: str, error: UnexpectedInput) -> AskError:
    names = {str(n) for n in error.allowed} if isinstance(error, UnexpectedCharacters) else set(error.accepts)  # type: ignore[attr-defined]
    position = error.pos_in_stream if error.pos_in_stream is not None and error.pos_in_stream >= 0 else len(text)
    if isinstance(getattr(error, "token", None), Token) and error.token.type == "$END":  # type: ignore[attr-defined]
        position = len(text)
    terms_fit = "_ID" in names
    # Of the many terms that could begin here, one alone would mislead.
    expected = [_EXPECTED[n] for n in sorted(names) if n in _EXPECTED and not (terms_fit and n == "SIGNAL")]
    word = re.match(r"[^\s()]*", text[position:])
    found = word.group() if word else ""
    if position >= len(text):
        return AskError(position, "the ask ends here", tuple(expected) or ("a condition",))
    near = get_close_matches(found.lower(), set(TERMS) - {found.lower()}, 3, 0.5) if terms_fit else []
    if terms_fit and not near and re.fullmatch(r"[0-9A-Fa-f]{3,8}", found):
        near = [f"id:{found}"]
    what = f"“{found or text[position]}” is not understood"
    return AskError(position, what, tuple(near) or tuple(expected) or ("a condition such as id:1A0",))


def _whole(text: str, unit: str) -> int:
    return int(Decimal(text) * UNITS_NS[unit.lower()])


def duration_ns(text: str) -> int:
    """A time with its unit in nanoseconds."""
    match = re.fullmatch(r"([\d.]+)(\D+)", text)
    if match is None or match[2].lower() not in UNITS_NS:
        raise ValueError(f"{text!r} is not a time with a unit")
    return _whole(match[1], match[2])


class _Build(Transformer[Token, Any]):
    """From the parse tree to nodes, checking names on the way."""

    def __init__(self, scene: Scene | None) -> None:
        super().__init__()
        self.scene = scene

    def start(self, parts: list[Node | None]) -> Node:
        return parts[0] or nodes.Everything()

    def any(self, parts: list[Node]) -> Node:
        return nodes.Any_(tuple(parts))

    def all(self, parts: list[Node]) -> Node:
        return nodes.All(tuple(parts))

    def none(self, parts: list[Node]) -> Node:
        return nodes.Not(parts[0])

    def ids(self, items: list[Token]) -> Node:
        return terms.Ids(tuple(_id_range(item) for item in items))

    def buses(self, words: list[Token]) -> Node:
        known = self.scene.buses if self.scene else None
        for word in words:
            _check(word, known, "bus")
        return terms.Buses(tuple(w.lower() for w in words))

    def names(self, words: list[Token]) -> Node:
        if self.scene:
            known = self.scene.book.message_names()
            for word in words:
                if not any(fnmatchcase(name.lower(), word.lower()) for name in known):
                    _check(word, known, "message")
        return terms.Names(tuple(w.lower() for w in words))

    def direction(self, items: list[Token]) -> Node:
        return terms.Direction(items[0].lower() == "tx")

    def length(self, items: list[Token]) -> Node:
        return terms.Length(str(items[0]), int(items[1]))

    def has_bytes(self, items: list[Token]) -> Node:
        return terms.HasBytes(_pattern(items[0]))

    def bytes_at(self, items: list[Token]) -> Node:
        return terms.HasBytes(_pattern(items[1]), int(items[0]))

    def has_text(self, items: list[Token]) -> Node:
        text = items[0].strip('"')
        if not text:
            raise AskError(items[0].start_pos or 0, "the text is empty")
        return terms.HasText(text)

    def any_fault(self, _: list[Token]) -> Node:
        return terms.Faults(0xFFFFFFFF)

    def faults(self, words: list[Token]) -> Node:
        mask = 0
        for word in words:
            _check(word, FAULT_BY_WORD, "fault class")
            mask |= FAULT_BY_WORD[word.lower()]
        return terms.Faults(mask)

    def bit(self, items: list[Token]) -> Node:
        return terms.Bit(int(items[0]), int(items[1]))

    def moved(self, _: list[Token]) -> Node:
        return terms.Moved()

    def moved_at(self, items: list[Token]) -> Node:
        found = tuple(terms.Moved(int(item)) for item in items)
        return found[0] if len(found) == 1 else nodes.Any_(found)

    def near(self, items: list[Any]) -> Node:
        return context.Near(items[0], duration_ns(items[1]))

    def then(self, items: list[Any]) -> Node:
        return context.Then(items[0], items[1], duration_ns(items[2]))

    def gap(self, items: list[Token]) -> Node:
        return terms.Gap(str(items[0]), duration_ns(items[1]))

    def step(self, items: list[Token]) -> Node:
        return terms.Step(str(items[0]), duration_ns(items[1]))

    def at(self, items: list[Token | None]) -> Node:
        start, end = (None if item is None else duration_ns(item) for item in items)
        return terms.At(start, end)

    def signal_is(self, items: list[Token]) -> Node:
        wanted = Wanted(str(items[1]), items[2].strip('"'))
        check_signal(items[0], items[0].start_pos or 0, self.scene, wanted)
        return SignalIs(items[0].lower(), wanted)

    def signal_moves(self, items: list[Token]) -> Node:
        check_signal(items[1], items[1].start_pos or 0, self.scene, None)
        return SignalMoves(items[1].lower(), items[0].lower().rstrip(":"))  # type: ignore[arg-type]

    def signal_becomes(self, items: list[Token]) -> Node:
        wanted = Wanted(str(items[1]), items[2].strip('"'))
        check_signal(items[0], items[0].start_pos or 0, self.scene, wanted)
        return SignalMoves(items[0].lower(), "becomes", wanted)


def _check(word: Token, known: Iterable[str] | None, kind: str) -> None:
    if known is None or word.lower() in (name.lower() for name in known):
        return
    by_lower = {name.lower(): name for name in known}
    near = get_close_matches(word.lower(), by_lower, 3, 0.4) or sorted(by_lower)[:6]
    raise AskError(word.start_pos or 0, f"no {kind} is called “{word}”", tuple(by_lower[n] for n in near))


def _id_range(item: Token) -> terms.IdRange:
    text = item.upper()
    low_text, _, high_text = text.partition("..")
    digits = max(len(low_text), len(high_text))
    form = Form.BASE if digits <= 3 else Form.EXTENDED if digits <= 8 and not high_text else None
    if "?" in low_text:
        if high_text:
            raise AskError(item.start_pos or 0, f"“{item}” mixes ? with a range", ("18FE??17", "1A0..1AF"))
        mask = int("".join("0" if c == "?" else "F" for c in low_text), 16)
        return terms.IdRange(int(low_text.replace("?", "0"), 16), 0, mask, form)
    low = int(low_text, 16)
    high = int(high_text, 16) if high_text else low
    if high < low:
        raise AskError(item.start_pos or 0, f"“{item}” ends before it begins", (f"{high_text}..{low_text}",))
    return terms.IdRange(low, high, None, form)


def _pattern(item: Token) -> tuple[int | None, ...]:
    text = re.sub(r"\s", "", item.strip('"'))
    pairs = [text[i : i + 2] for i in range(0, len(text), 2)]
    if not pairs or not all(p == "??" or re.fullmatch(r"[0-9A-Fa-f]{2}", p) for p in pairs):
        raise AskError(item.start_pos or 0, f"{item} is not bytes in hex", ('"B0 ?? 04"',))
    return tuple(None if p == "??" else int(p, 16) for p in pairs)
