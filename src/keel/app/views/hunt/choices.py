"""What a person chose in Hunt."""

from __future__ import annotations

from dataclasses import dataclass

from keel.app.views.hunt.search import NOTHING_SOUGHT, Sought


@dataclass(frozen=True)
class HuntChoices:
    """What is looked for, and what of the answer is in hand.

    Attributes:
        sought: What is looked for, by which evidence.
        ruled_out: Names of candidates that were ruled out.
        in_hand: The name of the row in hand; None is the first.
        top: The first row shown, as far as the row in hand lets it.
        again: How often it was searched again by the same evidence.
    """

    sought: Sought = NOTHING_SOUGHT
    ruled_out: frozenset[object] = frozenset()
    in_hand: object = None
    top: int = 0
    again: int = 0
