"""What runs compiled and what plain: decided here, and here it can be asked.

Loading compiled code takes a second, which the first screen cannot wait for. So some functions exist twice: in NumPy,
and compiled in a module of their own. The plain one does the work until that module is loaded.
"""

from __future__ import annotations

import functools
from collections.abc import Callable
from importlib import import_module
from typing import Any, Generic, ParamSpec, TypeVar

P = ParamSpec("P")
R = TypeVar("R")


class Accelerated(Generic[P, R]):
    """A function with a compiled twin, which takes and gives the same.

    Attributes:
        plain: The function in NumPy.
        module: Where the twin is; it has the same name there.
    """

    def __init__(self, plain: Callable[P, R], module: str) -> None:
        self.plain, self.module, self._compiled = plain, module, None
        functools.update_wrapper(self, plain)

    _compiled: Callable[P, R] | None

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R:
        """Do the work, compiled if that is loaded."""
        return (self._compiled or self.plain)(*args, **kwargs)

    @property
    def is_compiled(self) -> bool:
        """Whether the compiled twin does the work by now."""
        return self._compiled is not None

    def load(self) -> None:
        """Have the compiled twin do the work from now on."""
        self._compiled = getattr(import_module(self.module), self.plain.__name__)


_all: list[Accelerated[Any, Any]] = []


def accelerated(module: str) -> Callable[[Callable[P, R]], Accelerated[P, R]]:
    """Say that a function has a compiled twin of its name in a module."""

    def declare(plain: Callable[P, R]) -> Accelerated[P, R]:
        made = Accelerated(plain, module)
        _all.append(made)
        return made

    return declare


def how_it_runs() -> dict[str, bool]:
    """Which of the functions declared so far run compiled, by name."""
    return {made.plain.__name__: made.is_compiled for made in _all}


def load_all() -> None:
    """Have all functions declared so far run compiled."""
    for made in _all:
        made.load()
