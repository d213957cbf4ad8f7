"""Keeps the last result of something that is asked for again and again with the same arguments."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

R = TypeVar("R")


class Memo(Generic[R]):
    """One result, and what it was made of. Pictures and matches are equal only to themselves, all else by value."""

    def __init__(self) -> None:
        self._known: tuple[tuple[object, ...], R] | None = None

    def of(self, made_of: tuple[object, ...], make: Callable[[], R]) -> R:
        """The result; made anew if it was made of something else."""
        if self._known is None or self._known[0] != made_of:
            self._known = (made_of, make())
        return self._known[1]
