"""Which channels Line draws, and in which order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from keel.app.frame.helm import Choice, Helm
from keel.app.views.line.choices import LineChoices
from keel.app.views.line.layout import layout_of
from keel.store.waveform_entries import channels


def hide(helm: Helm) -> None:
    """Do not draw the channel in hand."""
    layout, choices = layout_of(helm.here), helm.state.of(LineChoices)
    if layout.in_hand is None or len(layout.entries) < 2:
        helm.tell("the last channel stays", 2)
        return
    place = layout.entries.index(layout.in_hand)
    following = layout.entries[place + 1] if place + 1 < len(layout.entries) else layout.entries[place - 1]
    fewer = replace(choices, hidden=choices.hidden | {layout.in_hand.number}, in_hand=following.number)
    helm.change(f"{layout.in_hand.name} hidden", helm.state.having(fewer))


def choose_shown(helm: Helm) -> None:
    """Choose the channels that are drawn: each choice shows or hides one; the last line shows all."""
    known = channels(helm.here.picture.snapshot.manifest.waveforms)
    choices = helm.state.of(LineChoices)
    listed = [
        Choice(str(entry.number), f"{'hidden' if entry.number in choices.hidden else 'shown ':8}{entry.name}")
        for entry in known
    ]

    def chosen(value: str) -> None:
        hidden = frozenset() if not value else choices.hidden ^ {int(value)}
        if len(hidden) == len(known):
            helm.tell("the last channel stays", 2)
            return
        helm.change("channels", helm.state.having(replace(choices, hidden=frozenset(hidden))))

    helm.windows.choose("Show or hide a channel", [*listed, Choice("", "show all")], chosen)


def move(by: int) -> Callable[[Helm], None]:
    """Draw the channel in hand farther up or down."""

    def moved(helm: Helm) -> None:
        layout, choices = layout_of(helm.here), helm.state.of(LineChoices)
        if layout.in_hand is None:
            return
        order = [entry.number for entry in layout.entries]
        place = order.index(layout.in_hand.number)
        to = min(max(place + by, 0), len(order) - 1)
        order.insert(to, order.pop(place))
        moved_choices = replace(choices, order=tuple(order), in_hand=layout.in_hand.number)
        helm.change("order of channels", helm.state.having(moved_choices), True)

    return moved
