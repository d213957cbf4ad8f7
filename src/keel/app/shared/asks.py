"""Asks that people keep: named and remembered. And what else they write into a recording."""

from __future__ import annotations

from typing import TYPE_CHECKING

from keel.model.settings import remember_setting, settings, words_of

if TYPE_CHECKING:
    from keel.store.manifest import Manifest

MOST_REMEMBERED = 100


def user_asks() -> dict[str, str]:
    """The user's named asks."""
    named = settings("asks").get("named")
    return {str(k): str(v) for k, v in named.items()} if isinstance(named, dict) else {}


def keep_user_ask(name: str, text: str) -> None:
    """Keep an ask under a name for all recordings."""
    remember_setting("asks", "named", {**user_asks(), name: text})


def remembered() -> list[str]:
    """Asks entered before, newest first."""
    return words_of(settings("asks").get("history"))


def remember(text: str) -> None:
    """Remember an ask that was entered."""
    if text:
        kept = [text, *(old for old in remembered() if old != text)]
        remember_setting("asks", "history", kept[:MOST_REMEMBERED])


def keep_in(manifest: Manifest, name: str, text: str) -> None:
    """Keep an ask under a name in a recording."""
    from keel.store.manifest import NamedAsk

    manifest.asks = [a for a in manifest.asks if a.name != name] + [NamedAsk(name, text)]


def comment_in(manifest: Manifest, number: int, text: str) -> None:
    """Write a note on a frame; an empty one removes it."""
    from keel.store.manifest import Comment

    kept = [c for c in manifest.comments if c.number != number]
    manifest.comments = sorted([*kept, *([Comment(number, text)] if text else [])], key=lambda c: c.number)


def nominal_in(manifest: Manifest, key: int, ns: int) -> None:
    """Name a nominal cycle time; 0 forgets it."""
    manifest.nominal = {k: v for k, v in manifest.nominal.items() if k != key} | ({key: ns} if ns else {})


def check_in(manifest: Manifest, text: str) -> None:
    """Add a check."""
    manifest.checks = [*manifest.checks, text]


def drop_check(manifest: Manifest, text: str) -> None:
    """Remove a check."""
    manifest.checks = [check for check in manifest.checks if check != text]


def on_page(manifest: Manifest, name: str, signal: str) -> None:
    """Put a signal on a page, or take it off; a page without signals goes."""
    from keel.store.manifest import Page

    pages = {p.name: p.signals for p in manifest.pages}
    old = pages.get(name, ())
    pages[name] = tuple(s for s in old if s != signal) if signal in old else (*old, signal)
    manifest.pages = [Page(n, s) for n, s in pages.items() if s]
