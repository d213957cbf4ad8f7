"""From the Bench view: a probe on a line aboard, its waveforms as a recording of their own."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.dialogs.working import working
from keel.app.frame.helm import Choice, Helm
from keel.app.shared.state import State
from keel.app.views.bench.panel import is_ferry, panel_of, value_of

if TYPE_CHECKING:
    from collections.abc import Callable

USUAL_S = "1"


def probe_line(helm: Helm) -> None:
    """Choose a line aboard and how long it is probed; then look at its waveform."""
    events = _as_it_stands(helm)

    def choices() -> list[Choice]:
        from keel.bench.probes import PROBES

        return [Choice(one.word, one.title) for one in PROBES.values()]

    def chosen(word: str) -> None:
        hint = "seconds, at most 120   enter probe   esc leave"
        helm.windows.text("How long", hint, USUAL_S, lambda text: _probe(helm, word, text, events))

    helm.windows.choose("probe which line?", choices, chosen)


def _probe(helm: Helm, word: str, text: str, events: list[tuple[float, str, str]]) -> None:
    try:
        seconds = float(text)
    except ValueError:
        helm.tell(f"“{text}” is no number of seconds", 4, error=True)
        return

    def where() -> Path:
        from keel.store.library import new_name

        return new_name(f"probe-{word}")

    def make(folder: Path, progress: Callable[[int, int], None]) -> None:
        from keel.bench.probe import record_probe

        record_probe(word, seconds, folder, events=events, progress=progress)

    def done(folder: Path) -> None:
        helm.change("recording", State(view="line", folder=folder, own=helm.state.own))

    working(helm, f"probing for {seconds:g} s", where, make, done, lambda: None)


def _as_it_stands(helm: Helm) -> list[tuple[float, str, str]]:
    """What is worked on the ferry now is worked while her lines are probed."""
    here = helm.here
    controls = panel_of(here)
    if not is_ferry(controls):
        return []
    return [(0.0, one.name, value_of(here, one)) for one in controls if not one.momentary]
