"""Where the Line view looks: the lens on a span, and on what was stepped to."""

from __future__ import annotations

from dataclasses import replace

from keel.app.frame.helm import Helm
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.steps import Goal
from keel.model.span import Span

NARROWEST_NS = 20


def length(span: Span) -> int:
    """Of a span, in ns."""
    return span.end - span.start


def look(helm: Helm, span: Span, said: str, joins: bool = False) -> None:
    """The lens on a span, as far as there is something."""
    whole = helm.here.picture.whole
    across = min(max(length(span), NARROWEST_NS), length(whole))
    start = min(max(span.start, whole.start), whole.end - across)
    lens = Span(start, start + across)
    helm.change(said, replace(helm.state, lens=None if lens == whole else lens), joins)


def go_to(helm: Helm, goal: Goal) -> None:
    """Look at what was stepped to; a cursor goes there."""
    choices, lens, state = helm.state.of(LineChoices), helm.here.lens, helm.state
    if choices.cursors:
        cursors = tuple(goal.time if n == choices.active else one for n, one in enumerate(choices.cursors))
        state = state.having(replace(choices, cursors=cursors))
    if goal.frame is not None:
        state = replace(state, frame=goal.frame)
    whole, span = helm.here.picture.whole, goal.span
    if (span is None and not lens.start <= goal.time < lens.end) or (span is None and not choices.cursors):
        half = length(lens) // 2 if helm.state.lens is not None else max(length(lens) // 200, NARROWEST_NS)
        span = Span(goal.time - half, goal.time + half)
    if span is not None:
        state = replace(state, lens=span.clipped(whole))
    helm.change("step", state, joins=True)
