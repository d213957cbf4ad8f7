"""Asks that people keep for all recordings: named and remembered. Read and written on other threads than the
interface's."""

from __future__ import annotations

from keel.model.settings import remember_setting, settings, words_of

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
