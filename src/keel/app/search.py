"""A search of the Hunt view: what is looked for, run on a worker's thread, and what it gave."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

from keel.app.pages import all_matches
from keel.app.picture import Picture
from keel.hunt.candidates import LIKELY_NOTHING, Findings
from keel.hunt.columns import Column, gather
from keel.hunt.marks import follow_marks
from keel.hunt.scene import Traffic
from keel.model.span import Span, around, pair_up


@dataclass(frozen=True)
class Result:
    """What a search gave, and the payloads of the candidates' identifiers for drawing."""

    findings: Findings
    traffic: Traffic
    spans: tuple[Span, ...]
    took_s: float
    moments: bool

    @property
    def payloads(self) -> dict[int, Column]:
        """The frames searched, by key."""
        return self.traffic.columns


def evidence_spans(picture: Picture, moments: bool) -> list[Span]:
    """The marked spans within the lens."""
    marks = [m for m in picture.snapshot.manifest.marks if picture.lens.start <= m.time < picture.lens.end]
    return around(marks) if moments else pair_up(marks)


def search(picture: Picture, moments: bool, stopped: Callable[[], bool]) -> Result:
    """Run the hunt; for a worker thread. ``stopped`` is asked whether to give up."""
    begin = time.monotonic()
    traffic = Traffic.of(gather(all_matches(picture)), stopped)
    spans = evidence_spans(picture, moments)
    findings = follow_marks(traffic, spans, stopped)
    if findings.nothing_probability > LIKELY_NOTHING:
        # What comes nearest is no help to somebody whose button is dead.
        findings = replace(findings, candidates=())
    return Result(findings, traffic, tuple(spans), time.monotonic() - begin, moments)
