"""What a person chose on the Bench."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Asked:
    """A control that was operated: which, how, and when by `time.monotonic`."""

    name: str
    value: str
    at: float


@dataclass(frozen=True)
class BenchChoices:
    """The control in hand, and what was asked for just now: it shows at once, before the bench says the same."""

    cursor: int = 0
    asked: tuple[Asked, ...] = ()
