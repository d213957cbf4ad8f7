"""Marks where a channel crosses a voltage: for Hunt, and to go to."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

from keel.app.desk.edits import MARKS, Placed
from keel.app.desk.frame_pages import all_matches
from keel.app.frame.helm import Helm
from keel.app.views.line.choices import LineChoices
from keel.errors import InputError
from keel.model.span import Mark

if TYPE_CHECKING:
    from keel.app.desk.deeds import Exchange, Plan
    from keel.model.span import Span
    from keel.store.manifest import Manifest
    from keel.store.waveform_entries import WaveformEntry

MOST_MARKS = 200
EXPECTED = "below or above which voltage, as <11V or >3.3V"


def mark_crossings(helm: Helm, entry: WaveformEntry) -> None:
    """Have a voltage typed; where the channel is beyond it becomes marks, two for each time, of a try of their own."""
    picture, snapshot = helm.here.picture, helm.here.picture.snapshot
    cut = entry.measured.get("threshold")

    def typed(text: str) -> None:
        said = f"{entry.name}{text.strip()}"

        def find(_: object) -> tuple[list[Span], list[str]]:
            from keel.hunt.channels import spans_beyond
            from keel.hunt.following import followed_words

            spans = spans_beyond(snapshot, said)
            if spans is None:
                raise InputError("the voltage", f"“{text}” is none", EXPECTED)
            return spans, followed_words(all_matches(picture), spans)

        helm.behind(find, lambda found: _keep(helm, entry, said, *found))

    proposal = f"<{cut:.3g}V" if cut is not None else "<"
    helm.windows.text(f"Mark where {entry.name} is", f"{EXPECTED}   enter mark   esc leave", proposal, typed)


def _keep(helm: Helm, entry: WaveformEntry, said: str, spans: list[Span], follows: list[str]) -> None:
    if not spans:
        helm.tell(f"{said}: never", 4)
        return
    kept = spans[:MOST_MARKS]
    more = f"; of {len(spans)} the first {MOST_MARKS}" if len(spans) > MOST_MARKS else ""
    told = f"{said}: {len(kept)} times, marked as the try “{said}”{more}"
    sentences = tuple(f"{said} {one}" for one in follows) or (f"{said}: no message that changes is followed",)
    choices = replace(helm.state.of(LineChoices), follows=(entry.number, sentences))
    helm.edit(f"marks {said}", _plan(said, kept), lambda: told, helm.state.having(choices))


def _plan(said: str, spans: list[Span]) -> Plan:
    def plan(manifest: Manifest) -> Iterator[Exchange[int, Placed[Mark]]]:
        from keel.app.desk.deeds import Exchange

        number = max((mark.number for mark in manifest.marks), default=0)
        for span in spans:
            for time in (span.start, span.end):
                number += 1
                yield Exchange(MARKS, number, Placed(Mark(number, time, of=said)))

    return plan
