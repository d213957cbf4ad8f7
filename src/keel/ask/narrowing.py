"""Asks built instead of typed: what a row or a frame says of itself, and an ask narrowed to it or to all else."""

from __future__ import annotations

from collections.abc import Collection

from keel.ask.language import parse
from keel.ask.nodes import Everything, Node, Not, all_of
from keel.ask.terms import Buses, IdRange, Ids, Names
from keel.errors import AskError
from keel.media.every import form_of, medium_of_form
from keel.model.bus import MOST_BUSES
from keel.model.globs import Glob
from keel.model.identity import pack_key, unpack_key


def of_bus(name: str) -> Node:
    """Frames of one bus."""
    return Buses((Glob.literal(name),))


def of_message(name: str) -> Node:
    """Frames of one message."""
    return Names((Glob.literal(name),))


def of_ident(form: int, ident: int, with_role: bool = True) -> Node:
    """Frames of one identifier, on any bus, and of its role alone; or frames without any."""
    known = form_of(form)
    if known.read is None and not known.role:
        return Ids((IdRange(ident, ident, None, form),))
    text = f"{known.write(ident)} {known.role if with_role else ''}".rstrip()
    if known.read is None and not with_role:
        return Ids((IdRange(ident, ident, None, None),))
    return Ids((IdRange(1, 0, None, None, text),))


def of_key(key: int, bus: str = "", with_role: bool = True) -> Node:
    """Frames of one identifier, on the bus of that name if one is given."""
    _, form, ident = unpack_key(key)
    node = of_ident(form, ident, with_role)
    return all_of(node, of_bus(bus)) if bus else node


def of_key_among(key: int, bus: str, keys: Collection[int]) -> Node:
    """Frames of one identifier: its bus is named only where others of these keys have the same identifier, and its
    role only where it has others.

    Args:
        key: The identifier.
        bus: The name of its bus.
        keys: A set of identifiers.
    """
    index, form, ident = unpack_key(key)
    medium = medium_of_form(form)
    written = form_of(form).write(ident)
    twins = any(pack_key(other, form, ident) in keys for other in range(MOST_BUSES) if other != index)
    others = [one for one in (medium.forms if medium is not None else ()) if one.number != form and one.role]
    roles = any(pack_key(index, one.number, ident) in keys for one in others if one.write(ident) == written)
    return of_key(key, bus if twins else "", roles)


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
