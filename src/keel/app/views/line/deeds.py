"""Small things that people do in Line: the table of messages, how bytes are written, where a second cursor is set."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

from keel.app.frame.helm import Helm, Here
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.going import length
from keel.app.views.line.layout import across, bit_of, layout_of
from keel.app.views.line.messages import row_in_hand
from keel.app.views.line.wants import LineShown


def turn_table(helm: Helm) -> None:
    """List the messages in the lens, or the facts again."""
    choices = helm.state.of(LineChoices)
    pane: Literal["", "messages"] = "" if choices.pane == "messages" else "messages"
    helm.change("table", helm.state.having(replace(choices, pane=pane, task=None)))


def step_in_table(helm: Helm, by: int) -> None:
    """Take another message of the table in hand; the lens goes with it if it lies outside."""
    shown = helm.here.picture.part(LineShown)
    if shown is None or not shown.rows:
        return
    numbers = [row["number"] - 1 for row in shown.rows]
    here = row_in_hand(shown, helm.state.frame)
    to = here if helm.state.frame not in numbers else min(max(here + by, 0), len(numbers) - 1)
    helm.change("message", replace(helm.state, frame=numbers[to]), True)


def beside_cursor(here: Here, cursor: int) -> int:
    """Where a second cursor is set: a bit beside the first one, if a bit is some cells wide, else a few cells."""
    entry = layout_of(here).in_hand
    cell = length(here.lens) / max(across(here), 1)
    bit = bit_of(here, entry) if entry is not None else 0.0
    step = bit if bit >= LEAST_STEP * cell else STEP_CELLS * cell
    at = cursor + max(round(step), 1)
    return at if at < here.lens.end else cursor - max(round(step), 1)


LEAST_STEP, STEP_CELLS = 2, 8
"""A bit of fewer cells is no step for a cursor, then it is so many cells."""
