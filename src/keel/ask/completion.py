"""What could stand where somebody is typing an ask."""

from __future__ import annotations

import re

from keel.ask.language import TERMS
from keel.ask.nodes import Scene
from keel.model.faults import FAULT_BY_WORD
from keel.model.identity import Form, key_words, unpack_key

MOST = 8
_LAST = re.compile(r"(?:^|[\s(])([^\s()]*)$")


def complete(text: str, scene: Scene | None, keys: tuple[int, ...] = ()) -> list[str]:
    """Texts that ``text`` could become, likeliest first.

    Args:
        text: What is typed so far; it is completed at its end.
        scene: Buses and names there are.
        keys: Identifiers there are.
    """
    found = _LAST.search(text)
    if found is None:
        return []
    word = found[1]
    base = text[: len(text) - len(word)]
    term, colon, begun = word.rpartition(":")
    if not colon:
        near = [t for t in TERMS if t.startswith(word.lower()) and t != word.lower()] if word else []
        return [base + t for t in (*near, *_signals(word, scene))][:MOST]
    # Of a list only what follows the last comma is completed.
    done, comma, begun = begun.rpartition(",")
    values = _values(term.lower(), scene, keys)
    fit = [v for v in values if v.lower().startswith(begun.lower()) and v.lower() != begun.lower()]
    if term.lower() == "name" and not fit:
        fit = [v for v in values if begun.lower() in v.lower()]
    return [f"{base}{term}:{done}{comma}{value}" for value in fit][:MOST]


def _signals(begun: str, scene: Scene | None) -> list[str]:
    """Signals whose name begins so, once a message's name is there."""
    if scene is None or len(begun) < 2:
        return []
    names = scene.book.signal_names()
    return sorted(n for n in names if n.lower().startswith(begun.lower()) and n.lower() != begun.lower())


def _values(term: str, scene: Scene | None, keys: tuple[int, ...]) -> list[str]:
    if term == "fault":
        return list(FAULT_BY_WORD)
    if term == "dir":
        return ["rx", "tx"]
    if term == "bus":
        return list(scene.buses) if scene else []
    if term == "name":
        return sorted(scene.book.message_names()) if scene else []
    if term in ("rises", "falls", "changes", "becomes"):
        return sorted(scene.book.signal_names()) if scene else []
    if term == "id":
        return sorted({key_words(key) for key in keys if unpack_key(key)[1] != Form.NONE})
    return []
