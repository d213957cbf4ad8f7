"""Reading an ask: grammar, checks, and errors that say where, what, and what was meant."""

from __future__ import annotations

import re
from collections.abc import Iterable
from difflib import get_close_matches
from functools import cache
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Transformer, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, VisitError

from keel.ask import context, earlier, nodes, terms
from keel.ask.nodes import Node, Scene
from keel.ask.signals import SignalIs, SignalMoves, Wanted, check_signal
from keel.ask.times import duration_ns, time_text
from keel.errors import AskError
from keel.model.faults import FAULT_BY_WORD
from keel.model.globs import Glob, SignalGlob, unquoted
from keel.model.identity import EXTENDED_ID_MAX, IDENT_MASK, Form

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
DEEPEST = 100
"""So many conditions may stand in each other."""
LONGEST_NUMBER = 9
_EXPECTED = {
    "ID_ITEM": "an identifier in hex, as 1A0 or 1A0..1AF or 18FE??17",
    "WORD": "a name, in quotes if it has spaces",
    "DIRECTION": "rx or tx",
    "COMPARE": "one of > >= < <= = !=",
    "NUMBER": "a number",
    "HEX": 'bytes in hex, as "5E ?? 04"',
    "STRING": 'text in quotes ("")',
    "DURATION": "a time with its unit, as 120ms",
    "MOMENT": "a time with its unit, as 12.5s",
    "_RANGE": "..",
    "_COLON": ":",
    "_CLOSE": "a closing parenthesis",
    "_WITHIN": "within, and a time as 50ms",
    "BIT": "0 or 1",
    "SIGNAL": "a signal, as BowRampState.supply",
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
    if _depth(tree) > DEEPEST:
        raise AskError(0, f"conditions stand in each other more than {DEEPEST} deep")
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


def _depth(tree: Tree[Token]) -> int:
    """How deep conditions stand in each other; without recursion, which would end at a thousand."""
    deepest, waiting = 0, [(tree, 1)]
    while waiting:
        branch, depth = waiting.pop()
        deepest = max(deepest, depth)
        waiting += [(child, depth + 1) for child in branch.children if isinstance(child, Tree)]
    return deepest


class _Build(Transformer[Token, Any]):
    """From the parse tree to nodes, checking names on the way."""

    def __init__(self, scene: Scene | None) -> None:
        super().__init__()
        self.scene = scene

    def start(self, parts: list[Node | None]) -> Node:
        return parts[0] or nodes.Everything()

    def any(self, parts: list[Node]) -> Node:
        return nodes.any_of(*parts)

    def all(self, parts: list[Node]) -> Node:
        return nodes.all_of(*parts)

    def none(self, parts: list[Node]) -> Node:
        return nodes.Not(parts[0])

    def ids(self, items: list[Token]) -> Node:
        return terms.Ids(tuple(_id_range(item) for item in items))

    def buses(self, words: list[Token]) -> Node:
        if self.scene:
            for word in words:
                _check(word, self.scene.buses, "bus")
        return terms.Buses(tuple(map(Glob.read, words)))

    def names(self, words: list[Token]) -> Node:
        if self.scene:
            for word in words:
                _check(word, self.scene.book.message_names, "message")
        return terms.Names(tuple(map(Glob.read, words)))

    def direction(self, items: list[Token]) -> Node:
        return terms.Direction(items[0].lower() == "tx")

    def length(self, items: list[Token]) -> Node:
        return terms.Length(str(items[0]), _place(items[1]))

    def has_bytes(self, items: list[Token]) -> Node:
        return terms.HasBytes(_pattern(items[0]))

    def bytes_at(self, items: list[Token]) -> Node:
        return terms.HasBytes(_pattern(items[1]), _place(items[0]))

    def has_text(self, items: list[Token]) -> Node:
        text = unquoted(items[0])
        if not text:
            raise AskError(items[0].start_pos or 0, "the text is empty")
        return terms.HasText(text)

    def any_fault(self, _: list[Token]) -> Node:
        return terms.Faults(terms.ANY_FAULT)

    def faults(self, words: list[Token]) -> Node:
        mask = 0
        for word in words:
            if word.lower() not in FAULT_BY_WORD:
                raise _unknown(word, FAULT_BY_WORD, "fault class")
            mask |= FAULT_BY_WORD[word.lower()]
        return terms.Faults(mask)

    def bit(self, items: list[Token]) -> Node:
        return terms.Bit(_place(items[0]), int(items[1]))

    def moved(self, _: list[Token]) -> Node:
        return earlier.Moved()

    def moved_at(self, items: list[Token]) -> Node:
        return nodes.any_of(*(earlier.Moved(_place(item)) for item in items))

    def near(self, items: list[Any]) -> Node:
        return context.Near(items[0], _time(items[1]))

    def then(self, items: list[Any]) -> Node:
        return context.Then(items[0], items[1], _time(items[2]))

    def gap(self, items: list[Token]) -> Node:
        return earlier.Gap(str(items[0]), _time(items[1]))

    def step(self, items: list[Token]) -> Node:
        return earlier.Step(str(items[0]), _time(items[1]))

    def at(self, items: list[Token | None]) -> Node:
        start, end = (None if item is None else _time(item) for item in items)
        if start is not None and end is not None and end < start:
            place = (items[0].start_pos if items[0] is not None else None) or 0
            turned = f"at:{time_text(end)}..{time_text(start)}"
            raise AskError(place, "the time ends before it begins", (turned,))
        return terms.At(start, end)

    def signal_is(self, items: list[Token]) -> Node:
        return SignalIs(self._signal(items[0], wanted := _wanted(items[1:])), wanted)

    def signal_moves(self, items: list[Token]) -> Node:
        return SignalMoves(self._signal(items[1]), items[0].lower().rstrip(":"))  # type: ignore[arg-type]

    def signal_becomes(self, items: list[Token]) -> Node:
        return SignalMoves(self._signal(items[0], wanted := _wanted(items[1:])), "becomes", wanted)

    def _signal(self, word: Token, wanted: Wanted | None = None) -> SignalGlob:
        pattern = SignalGlob.read(word)
        check_signal(pattern, word.start_pos or 0, self.scene, wanted)
        return pattern


def _wanted(items: list[Token]) -> Wanted:
    return Wanted(str(items[0]), Glob.read(items[1]))


def _time(item: Token) -> int:
    try:
        return duration_ns(item)
    except ValueError as error:
        raise AskError(item.start_pos or 0, str(error)) from None


def _place(item: Token) -> int:
    """A bit's, a byte's or a length's number."""
    if len(item) > LONGEST_NUMBER:
        raise AskError(item.start_pos or 0, f"“{item[:20]}” is beyond any payload", ("a smaller number",))
    return int(item)


def _check(word: Token, known: Iterable[str], kind: str) -> None:
    if not Glob.read(word).among(known):
        raise _unknown(word, known, kind)


def _unknown(word: Token, known: Iterable[str], kind: str) -> AskError:
    """Nothing is called so; what comes near is offered as it would have to be written."""
    by_lower = {name.lower(): name for name in sorted(known)}
    said = Glob.read(word).name
    near = get_close_matches(said.lower(), by_lower, 3, 0.4) or list(by_lower)[:6]
    expected = tuple(str(Glob.literal(by_lower[name])) for name in near)
    return AskError(word.start_pos or 0, f"no {kind} is called “{said}”", expected)


def _id_range(item: Token) -> terms.IdRange:
    place = item.start_pos or 0
    text = item.upper().replace("0X", "")
    if text == terms.NO_IDENT.upper():
        return terms.IdRange(0, 0, None, Form.NONE)
    low_text, _, high_text = text.partition("..")
    digits = max(len(low_text), len(high_text))
    form = Form.BASE if digits <= 3 else Form.EXTENDED if digits <= 8 and not high_text else None
    most = {Form.BASE: 0x7FF, Form.EXTENDED: EXTENDED_ID_MAX}.get(form, IDENT_MASK) if form is not None else IDENT_MASK
    if "?" in text and high_text:
        raise AskError(place, f"“{item}” mixes ? with a range", ("18FE??17", "1A0..1AF"))
    low = int(low_text.replace("?", "0"), 16)
    if low > most:
        bits = 11 if form == Form.BASE else 29
        longer = (f"id:{low_text.rjust(8, '0')}",) if form == Form.BASE else ()
        raise AskError(place, f"“{item}” is more than {bits} bits hold; no identifier is so great", longer)
    if "?" in low_text:
        wild = int("".join("F" if c == "?" else "0" for c in low_text), 16)
        whole = {Form.BASE: 0xFFF, Form.EXTENDED: 0xFFFF_FFFF}.get(form, IDENT_MASK) if form is not None else IDENT_MASK
        return terms.IdRange(low, 0, whole & ~wild, form)
    high = int(high_text, 16) if high_text else low
    if high < low:
        raise AskError(place, f"“{item}” ends before it begins", (f"{high_text}..{low_text}",))
    return terms.IdRange(low, high, None, form)


def _pattern(item: Token) -> tuple[int | None, ...]:
    text = re.sub(r"\s|^0x", "", unquoted(item).lower())
    pairs = [text[i : i + 2] for i in range(0, len(text), 2)]
    if not pairs or not all(p == "??" or re.fullmatch(r"[0-9a-f]{2}", p) for p in pairs):
        raise AskError(item.start_pos or 0, f"{item} is not bytes in hex", ('"5E ?? 04"',))
    return tuple(None if p == "??" else int(p, 16) for p in pairs)
