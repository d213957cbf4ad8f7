"""The controls of what is recorded, as its recorder declares them, and how they stand."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import Any

from keel.app.frame.helm import Here
from keel.app.views.bench.choices import BenchChoices
from keel.bench.controls import CONTROLS, Control
from keel.errors import ControlError
from keel.model.extensible import plain_of_kind
from keel.model.safe_text import plain

PATIENCE_S = 3.0
"""So long a source may take to do what it was asked, before the control shows again what it says."""
FERRY = ("aboard the ferry Tern", "faults to inject")
OTHERS = ("controls of what is recorded", "faults to inject")
MOST = 64


def panel_of(here: Here) -> tuple[Control, ...]:
    """The controls there are; none where nothing that has some is recorded."""
    status = here.picture.status
    if status is None:
        return ()
    # Asked for many times while one picture is painted.
    if _LAST.get("said") is not status.panel:
        _LAST.update(said=status.panel, controls=declared(status.panel))
    controls: tuple[Control, ...] = _LAST["controls"]
    return controls


_LAST: dict[str, Any] = {}


def declared(said: Sequence[Any]) -> tuple[Control, ...]:
    """Of what a recorder declares, all that can be controls."""
    found = []
    for one in said[:MOST]:
        with suppress(ValueError, TypeError):
            control = plain_of_kind(one, Control)
            takes_some = control.choices or (control.low < control.high and control.step > 0)
            if takes_some and (control.default in control.choices or not control.choices):
                found.append(_harmless(control))
    return tuple(found)


def _harmless(control: Control) -> Control:
    from dataclasses import replace

    return replace(control, title=plain(control.title), words=plain(control.words), unit=plain(control.unit, 12))


def is_ferry(controls: Sequence[Control]) -> bool:
    """Whether they are the bench's own."""
    return tuple(control.name for control in controls[: len(CONTROLS)]) == tuple(control.name for control in CONTROLS)


def groups_of(controls: Sequence[Control]) -> tuple[tuple[str, str], ...]:
    """The groups there are, and what stands above them."""
    titles = dict(zip(("device", "fault"), FERRY if is_ferry(controls) else OTHERS, strict=True))
    return tuple((group, title) for group, title in titles.items() if any(c.group == group for c in controls))


def settings_of(here: Here) -> dict[str, str]:
    """How the controls stand; empty where there are none."""
    status = here.picture.status
    return believed(panel_of(here), status.controls) if status is not None else {}


def believed(controls: Sequence[Control], said: Mapping[str, Any]) -> dict[str, str]:
    """Of what a recorder says of the controls, all that can be."""
    found = {}
    for control in controls:
        if control.name in said:
            with suppress(ControlError):
                found[control.name] = control.check(str(said[control.name]))
    return found


def value_of(here: Here, control: Control) -> str:
    """What a control shows: what was asked for just now, else what the source says."""
    now = time.monotonic()
    asked = [a.value for a in here.state.of(BenchChoices).asked if a.name == control.name and now - a.at < PATIENCE_S]
    return asked[-1] if asked else settings_of(here).get(control.name, control.default)


def choices_of(control: Control, value: str) -> tuple[str, ...]:
    """The values to choose from."""
    if control.choices:
        return tuple(c for c in control.choices if not (control.momentary and c == control.default))
    shown = ("−", value, "+") if value != "auto" else ("−", "+")
    return (*(("auto",) if control.auto else ()), *shown)
