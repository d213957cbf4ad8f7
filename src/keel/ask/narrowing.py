"""Asks built instead of typed: what a row or a frame says of itself, and an ask narrowed to it or to all else."""

from __future__ import annotations

from collections.abc import Collection

from keel.ask.language import parse
from keel.ask.nodes import Everything, Node, Not, all_of
from keel.ask.terms import Buses, IdRange, Ids, Names
from keel.errors import AskError
from keel.model.globs import Glob
from keel.model.identity import unpack_key


def of_bus(name: str) -> Node:
    """Frames of one bus."""
    return Buses((Glob.literal(name),))


def of_message(name: str) -> Node:
    """Frames of one message."""
    return Names((Glob.literal(name),))


def of_ident(form: int, ident: int) -> Node:
    """Frames of one identifier, on any bus; or frames without any."""
    return Ids((IdRange(ident, ident, None, form),))


def of_key(key: int, bus: str = "") -> Node:
    """Frames of one identifier, on the bus of that name if one is given."""
    _, form, ident = unpack_key(key)
    return all_of(of_ident(form, ident), of_bus(bus)) if bus else of_ident(form, ident)


def of_key_among(key: int, bus: str, keys: Collection[int]) -> Node:
    """Frames of one identifier: its bus is named only where others of these keys have the same identifier."""
    twins = any(unpack_key(other)[1:] == unpack_key(key)[1:] for other in keys if other != key)
    return of_key(key, bus if twins else "")


def only(ask: str, term: str | Node) -> str:
    """The ask narrowed to what meets a term, too."""
    return str(all_of(_node(ask), _node(term)))


def without(ask: str, term: str | Node) -> str:
    """The ask narrowed to what does not meet a term."""
    return str(all_of(_node(ask), Not(_node(term))))


def _node(ask: str | Node) -> Node:
    if not isinstance(ask, str):
        return ask
    try:
        return parse(ask)
    except AskError:
        # It leaves nothing, so there is nothing that could be narrowed.
        return Everything()
