"""What an ask may have meant: where it leaves nothing though it can be used, or where it means more than it seems."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from keel.ask.context import Near, Then
from keel.ask.nodes import All, Any_, Node, Not, Scene
from keel.ask.terms import At, Buses, IdRange, Ids, Names
from keel.ask.times import time_text
from keel.media.every import forms, key_words
from keel.model.identity import unpack_key
from keel.model.span import Span


def terms_in(node: Node) -> Iterator[Node]:
    """The terms of an ask, left to right."""
    if isinstance(node, All | Any_):
        for part in node.parts:
            yield from terms_in(part)
    elif isinstance(node, Not | Near):
        yield from terms_in(node.part)
    elif isinstance(node, Then):
        yield from terms_in(node.first)
        yield from terms_in(node.second)
    else:
        yield node


def ambiguities(node: Node, scene: Scene) -> list[str]:
    """Sentences about names that differ in case only, where the ask means one or several of them."""
    said: list[str] = []
    for term in terms_in(node):
        if isinstance(term, Buses):
            said += _alike(term, term.meant(scene), scene.buses, "buses")
        elif isinstance(term, Names):
            said += _alike(term, term.meant(scene), scene.book.message_names, "messages")
    return said


def _alike(term: Buses | Names, meant: Collection[str], known: Collection[str], kind: str) -> Iterator[str]:
    for folded in sorted({name.casefold() for name in meant}):
        twins = sorted(name for name in known if name.casefold() == folded)
        both = [name for name in twins if name in meant]
        if len(both) > 1:
            yield f"{term} means {len(both)} {kind}: {', '.join(both)}"
        elif len(twins) > 1:
            others = ", ".join(name for name in twins if name not in meant)
            yield f"{term} means {both[0]}; the {kind} {others} differ in case and are others"


def unmet(node: Node, scene: Scene, keys: Collection[int], whole: Span) -> list[str]:
    """Why an ask that can be used may leave nothing: sentences, empty if nothing can be said.

    Args:
        node: The ask.
        scene: Buses and names there are.
        keys: The identifiers of the recording.
        whole: From its first to just after its last frame.
    """
    said: list[str] = []
    for term in terms_in(node):
        if isinstance(term, Ids):
            for one in term.ranges:
                said += _other_form(one, keys)
        elif isinstance(term, At):
            first, last = (time_text(t - scene.zero) for t in (whole.start, max(whole.end - 1, whole.start)))
            if term.start_ns is not None and scene.zero + term.start_ns >= whole.end:
                said.append(f"{term} lies beyond the end: the recording ends at {last}")
            elif term.end_ns is not None and scene.zero + term.end_ns < whole.start:
                said.append(f"{term} lies before the beginning: the recording begins at {first}")
        elif isinstance(term, Names):
            known = {m.name for m in scene.book.messages(keys).values()}
            meant = term.meant(scene)
            if meant and not meant & known:
                said.append(f"{term}: a dictionary knows it, but no frame is of it")
    return said


def _other_form(one: IdRange, keys: Collection[int]) -> Iterator[str]:
    """Whether an identifier that is not there is there in the other length."""
    known = {unpack_key(key)[1:] for key in keys}
    if one.low != one.high or one.mask is not None or (one.form, one.low) in known:
        return
    for form in forms():
        if form.digits and form.number != one.form and (form.number, one.low) in known:
            there = next(key for key in keys if unpack_key(key)[1:] == (form.number, one.low))
            yield f"id:{one} is not there; the {form.title} of that number is id:{key_words(there)}"
