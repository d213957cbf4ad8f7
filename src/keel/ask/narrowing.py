"""Asks built instead of typed: what a row or a frame says of itself, and an ask narrowed to it or to all else."""

from __future__ import annotations

from collections.abc import Collection

from keel.ask.language import parse
from keel.ask.nodes import Everything, Node, Not, all_of
from keel.ask.terms import Buses, IdRange, Ids, Names
from keel.errors import AskError
from keel.media.every import form_of, medium_of_form
from keel.media.medium import IdentForm
from keel.model.bus import MOST_BUSES
from keel.model.globs import Glob
from keel.model.identity import pack_key, unpack_key


def of_bus(name: str) -> Node:
    """Frames of one bus."""
    return Buses((Glob.literal(name),))


def of_message(name: str) -> Node:
    """Frames of one message."""
    return Names((Glob.literal(name),))


def of_ident(form: int, ident: int, called: str = "") -> Node:
    """Frames of one identifier, on any bus; or frames without any.

    Args:
        form, ident: The identifier.
        called: Its role, or its form's word, where others are written the same.
    """
    known = form_of(form)
    if called or known.read is not None:
        return Ids((IdRange(1, 0, None, None, f"{known.write(ident)} {called}".rstrip()),))
    return Ids((IdRange(ident, ident, None, form),))


def of_key(key: int, bus: str = "", called: str = "") -> Node:
    """Frames of one identifier, on the bus of that name if one is given."""
    _, form, ident = unpack_key(key)
    node = of_ident(form, ident, called)
    return all_of(node, of_bus(bus)) if bus else node


def of_key_among(key: int, bus: str, keys: Collection[int]) -> Node:
    """Frames of one identifier: its bus is named only where others of these keys have the same identifier, and its
    role only where others are written the same.

    Args:
        key: The identifier.
        bus: The name of its bus.
        keys: A set of identifiers.
    """
    index, form, ident = unpack_key(key)
    medium, known = medium_of_form(form), form_of(form)
    twins = any(pack_key(other, form, ident) in keys for other in range(MOST_BUSES) if other != index)
    alike = [
        one
        for one in (medium.forms if medium is not None else ())
        if one.number != form and pack_key(index, one.number, ident) in keys and _are_asked_alike(one, known, ident)
    ]
    called = ""
    if alike:
        # A role tells apart what a device says; two devices of one address are told apart by what sort it is.
        called = known.word if not known.role or any(one.role == known.role for one in alike) else known.role
    return of_key(key, bus if twins else "", called)


def _are_asked_alike(one: IdentForm, two: IdentForm, ident: int) -> bool:
    """Whether an ask for an identifier means both forms: they write it the same, or both as a number of any width."""
    are_numbers = all(form.read is None and not form.digits for form in (one, two))
    return are_numbers or one.write(ident) == two.write(ident)


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
