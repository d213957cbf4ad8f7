"""Where the Line view looks: the lens on a span, and on what was stepped to."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from keel.app.frame.helm import Helm
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.steps import Goal
from keel.model.span import Span
from keel.store.waveform_entries import channels, line_on

if TYPE_CHECKING:
    from keel.store.manifest import Manifest

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


def with_line(choices: LineChoices, manifest: Manifest, bus: int, form: int) -> LineChoices:
    """With a channel in hand over which frames of a bus and a form are shown; as it is where there is none."""
    known = channels(manifest.waveforms)
    mine = [(entry, line_on(manifest.waveforms, manifest.lines, entry)) for entry in known]
    over = [entry for entry, line in mine if line is not None and line.bus == bus and line.shows(entry.name, form)]
    if not over or choices.in_hand in [entry.number for entry in over]:
        return choices
    return replace(choices, in_hand=over[0].number, hidden=choices.hidden - {over[0].number})


def go_to(helm: Helm, goal: Goal) -> None:
    """Look at what was stepped to; a cursor goes there."""
    choices, lens, state = helm.state.of(LineChoices), helm.here.lens, helm.state
    if goal.bus is not None:
        manifest = helm.here.picture.snapshot.manifest
        choices = with_line(choices, manifest, goal.bus, goal.form)
        state = state.having(choices)
    if goal.end is not None:
        state = state.having(replace(choices, cursors=(goal.time, goal.end), active=0))
    elif choices.cursors:
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
