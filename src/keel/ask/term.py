"""What a term of the ask is: everything about it in one entry."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from keel.ask.nodes import Node, Scene

Build = Callable[[list[Any], Scene | None], Node]
Offer = Callable[[Scene | None, Iterable[int]], list[str]]


def nothing_to_offer(_: Scene | None, __: Iterable[int]) -> list[str]:
    """Values of which there is no list."""
    return []


@dataclass(frozen=True)
class Term:
    """A term.

    Attributes:
        words: How it begins, as it is completed.
        rule: Its place in the grammar, in Lark's notation; shared pieces are in ``grammar.lark``.
        tokens: The tokens that are its own, in Lark's notation.
        build: Makes its node of the rule's pieces; raises `AskError` where they make no sense.
        help: For the guide: an example, and what it means.
        expected: What stands where one of its tokens is missing, in words.
        offer: What could stand after its colon, given the names and the identifiers there are.
        words_for: Which of its words recordings of some media need; None if all do.
    """

    words: tuple[str, ...]
    rule: str
    tokens: str
    build: Build
    help: tuple[tuple[str, str], ...]
    expected: Mapping[str, str] = field(default_factory=dict)
    offer: Offer = nothing_to_offer
    words_for: Callable[[frozenset[str]], list[str]] | None = None
