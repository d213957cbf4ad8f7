"""What a person chose in Health."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Panel = Literal["cycles", "faults", "checks"]


@dataclass(frozen=True)
class HealthChoices:
    """Which list has the keys, and what is in hand in each.

    Attributes:
        fault: The class of fault in hand, by its word; the first if empty. ``check`` likewise, by its text.
        top: The first row shown of the cycle times, as far as the row in hand lets it.
    """

    panel: Panel = "cycles"
    fault: str = ""
    check: str = ""
    top: int = 0
