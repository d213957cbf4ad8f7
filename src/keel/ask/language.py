"""Reading an ask: grammar, checks, and errors that say where, what, and what was meant."""

from __future__ import annotations

import re
from difflib import get_close_matches
from functools import cache
from importlib.resources import files
from typing import Any

from lark import Lark, Token, Transformer, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, VisitError

from keel.ask import context, nodes
from keel.ask.identifiers import check_identifiers
from keel.ask.nodes import Node, Scene
from keel.ask.pieces import duration
from keel.ask.term import Term
from keel.ask.vocabulary import JOINING, TERMS
from keel.errors import AskError

DEEPEST = 100
"""So many conditions may stand in each other."""
_EXPECTED = {"_CLOSE": "a closing parenthesis", "_WITHIN": "within, and a time as 50ms"}
_TERM = "term_"
"""Rules of terms are called so, with the place of the term in the vocabulary."""


def words(media: frozenset[str] | None = None) -> tuple[str, ...]:
    """What a condition can begin with, and what joins conditions; of recordings of some media, or of all."""
    said = (
        word
        for term in TERMS
        for word in (term.words if term.words_for is None or media is None else term.words_for(media))
    )
    return (*said, *JOINING)


def _grammar() -> Lark:
    return _grammar_of(tuple((term.rule, term.tokens) for term in TERMS))


@cache
def _grammar_of(terms: tuple[tuple[str, str], ...]) -> Lark:
    frame = files("keel.ask").joinpath("grammar.lark").read_text(encoding="utf-8")
    rules = "\n     | ".join(f"{rule} -> {_TERM}{place}" for place, (rule, _) in enumerate(terms))
    tokens = [line.strip() for _, own in terms for line in own.splitlines()]
    text = "\n".join((frame, f"?term: {rules}\n", *dict.fromkeys(tokens), ""))
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
    words_for = {**_EXPECTED, **{token: said for term in TERMS for token, said in term.expected.items()}}
    # Of the many terms that could begin here, one alone would mislead.
    begins = ("SIGNAL", "HEADER", "HEADER_OF") if terms_fit else ()
    expected = [words_for[n] for n in sorted(names) if n in words_for and n not in begins]
    word = re.match(r"[^\s()]*", text[position:])
    found = word.group() if word else ""
    check_identifiers(text[:position])
    if position >= len(text):
        return AskError(position, "the ask ends here", tuple(expected) or ("a condition",))
    near = get_close_matches(found.lower(), set(words()) - {found.lower()}, 3, 0.5) if terms_fit else []
    if terms_fit and not near and re.fullmatch(r"[0-9A-Fa-f]{3,8}", found):
        near = [f"id:{found}"]
    what = f"“{found or text[position]}” is not understood"
    if near:
        return AskError(position, what, tuple(near), is_guess=True)
    return AskError(position, what, tuple(expected) or ("a condition such as id:1A0",))


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

    def then(self, items: list[Any]) -> Node:
        return context.Then(items[0], items[1], duration(items[2]))

    def __default__(self, data: str, children: list[Any], meta: object) -> Node:
        """A term of the vocabulary."""
        term: Term = TERMS[int(data.removeprefix(_TERM))]
        return term.build(children, self.scene)
