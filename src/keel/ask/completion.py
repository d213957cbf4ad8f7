"""What could stand where somebody is typing an ask."""

from __future__ import annotations

from collections.abc import Iterable

from keel.ask.language import TERMS
from keel.ask.nodes import Scene
from keel.model.faults import FAULT_BY_WORD
from keel.model.globs import Glob
from keel.model.identity import Form, key_words, unpack_key

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
        near = [t for t in TERMS if t.startswith(word.lower()) and t != word.lower()] if word else []
        return [base + t for t in (*near, *_signals(word, scene))][:MOST]
    # Of a list only what follows the last comma is completed.
    listed = _after_last(begun, ",")
    done, begun = begun[:listed], begun[listed:]
    if term.lower() in ("bus", "name"):
        names = _names(term.lower(), scene)
        said = Glob.read(begun.rstrip('"') + '"' if begun.startswith('"') else begun).name.casefold()
        fit = [n for n in names if n.casefold().startswith(said)]
        if term.lower() == "name":
            fit = fit or [n for n in names if said in n.casefold()]
        written = [str(Glob.literal(name)) for name in fit]
    else:
        written = [v for v in _values(term.lower(), scene, keys) if v.lower().startswith(begun.lower())]
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


def _names(term: str, scene: Scene | None) -> list[str]:
    if scene is None:
        return []
    return list(scene.buses) if term == "bus" else sorted(scene.book.message_names)


def _values(term: str, scene: Scene | None, keys: Iterable[int]) -> list[str]:
    if term == "fault":
        return list(FAULT_BY_WORD)
    if term == "dir":
        return ["rx", "tx"]
    if term in ("rises", "falls", "changes", "becomes"):
        return sorted(scene.book.signal_names) if scene else []
    if term == "id":
        return sorted({key_words(key) for key in keys if unpack_key(key)[1] != Form.NONE})
    return []
