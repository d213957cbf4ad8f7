"""Asks that people keep for all recordings: named and remembered. Read and written on other threads than the
interface's."""

from __future__ import annotations

from keel.model.settings import remember_setting, setting

MOST_REMEMBERED = 100


def user_asks() -> dict[str, str]:
    """The user's named asks."""
    return setting("asks", "named", dict[str, str](), dict[str, str])


def keep_user_ask(name: str, text: str) -> None:
    """Keep an ask under a name for all recordings."""
    remember_setting("asks", "named", {**user_asks(), name: text})


def remembered() -> list[str]:
    """Asks entered before, newest first."""
    return setting("asks", "history", list[str](), list[str])


def remember(text: str) -> None:
    """Remember an ask that was entered."""
    if text:
        kept = [text, *(old for old in remembered() if old != text)]
        remember_setting("asks", "history", kept[:MOST_REMEMBERED])
