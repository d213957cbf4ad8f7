"""What could stand where somebody is typing an ask."""

from __future__ import annotations

from collections.abc import Iterable

from keel.ask.headers import values_of
from keel.ask.language import words
from keel.ask.nodes import Scene
from keel.ask.vocabulary import TERMS
from keel.model.globs import Glob

MOST = 8


def complete(text: str, scene: Scene | None, keys: Iterable[int] = ()) -> list[str]:
    """Texts that ``text`` could become, likeliest first.

    Args:
        text: What is typed so far; it is completed at its end.
        scene: Buses and names there are.
        keys: Identifiers there are.
    """
    start = _after_last(text, " \t(")
    base, word = text[:start], text[start:]
    term, colon, begun = word.partition(":")
    if not colon:
        known = words(scene.media if scene is not None else None)
        near = [t for t in known if t.startswith(word.lower()) and t != word.lower()] if word else []
        return [base + t for t in (*near, *_signals(word, scene))][:MOST]
    # Of a list only what follows the last comma is completed.
    listed = _after_last(begun, ",")
    done, begun = begun[:listed], begun[listed:]
    offered = [value for t in TERMS if f"{term.lower()}:" in t.words for value in t.offer(scene, keys)]
    if term.lower() in ("bus", "name"):
        said = Glob.read(begun.rstrip('"') + '"' if begun.startswith('"') else begun).name.casefold()
        fit = [n for n in offered if n.casefold().startswith(said)]
        if term.lower() == "name":
            fit = fit or [n for n in offered if said in n.casefold()]
        written = [str(Glob.literal(name)) for name in fit]
    else:
        written = [v for v in offered or values_of(term.lower()) if v.lower().startswith(begun.lower())]
    return [f"{base}{term}:{done}{value}" for value in written if value.lower() != begun.lower()][:MOST]


def _after_last(text: str, parting: str) -> int:
    """Where the last piece begins, what stands in quotes taken as one; an unfinished quote goes on to the end."""
    start, at, in_quotes = 0, 0, False
    while at < len(text):
        if in_quotes and text[at] == "\\":
            at += 1
        elif text[at] == '"':
            in_quotes = not in_quotes
        elif not in_quotes and text[at] in parting:
            start = at + 1
        at += 1
    return start


def _signals(begun: str, scene: Scene | None) -> list[str]:
    """Signals whose name begins so, once a message's name is there."""
    if scene is None or len(begun) < 2:
        return []
    return sorted(n for n in scene.book.signal_names if n.lower().startswith(begun.lower()) and n != begun)
