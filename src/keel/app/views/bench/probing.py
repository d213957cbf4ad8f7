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


def probe_line(helm: Helm) -> None:
    """Choose a line aboard and how long it is probed; then look at its waveform."""
    events = _as_it_stands(helm)

    def choices() -> list[Choice]:
        from keel.bench.probes import PROBES

        return [Choice(one.word, one.title) for one in PROBES.values()]

    def chosen(word: str) -> None:
        from keel.bench.probes import PROBES

        hint = "seconds, at most 120   enter on   esc leave"
        helm.windows.text(
            "How long", hint, f"{PROBES[word].seconds:g}", lambda text: _ask_work(helm, word, text, events)
        )

    helm.windows.choose("probe which line?", choices, chosen)


def _ask_work(helm: Helm, word: str, text: str, events: list[tuple[float, str, str]]) -> None:
    """Have typed what is worked meanwhile, where that is the point of it."""
    from keel.bench.controls import timed
    from keel.bench.probes import PROBES

    try:
        seconds = float(text)
    except ValueError:
        helm.tell(f"“{text}” is no number of seconds", 4, error=True)
        return
    if not PROBES[word].works:
        _probe(helm, word, seconds, events)
        return

    def typed(said: str) -> None:
        _probe(helm, word, seconds, [*events, *(timed(one) for one in said.split())])

    hint = "what is worked meanwhile, as 0.3s:ramp=down; may be empty   enter probe   esc leave"
    helm.windows.text("Work meanwhile", hint, PROBES[word].works, typed, empty=True)


def _probe(helm: Helm, word: str, seconds: float, events: list[tuple[float, str, str]]) -> None:

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
