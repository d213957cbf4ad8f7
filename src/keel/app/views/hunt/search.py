"""A search of the Hunt view: what is looked for, run on a thread of its own, and what it gave."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal, Protocol

import numpy as np

from keel.app.desk.making import Making
from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.names import scene_of
from keel.compare.buses import BusPairs, pair_buses
from keel.errors import InputError
from keel.hunt.against import Differences, good_against_bad
from keel.hunt.candidates import Candidate, Findings
from keel.hunt.channels import series_from
from keel.hunt.columns import BLOCK_FRAMES, MOST_FRAMES, Column, gather
from keel.hunt.evidence import Evidence, tell_apart
from keel.hunt.exact import Known
from keel.hunt.measurements import Points
from keel.hunt.series import WITHIN_S
from keel.hunt.traffic import Traffic
from keel.model.span import Mark, Span, around, of_try, pair_up, tries_of
from keel.store.library import find_recording
from keel.store.recording import Recording, Snapshot

FIRST_LOOK = 1_000
"""So many frames of each identifier give a first ranking, where there are many."""
MANY_FRAMES = 400_000
Pairing = Literal["pairs", "moments", "unused"]
Mode = Literal["carrier", "against", "structure"]


@dataclass(frozen=True)
class Sought:
    """What is looked for, and by which evidence besides the recording's marks and readings.

    Attributes:
        mode: The field that carries something; what is wrong in bad traffic; what payloads are made of.
        pairing: How marks make spans.
        attempt: Whose marks, by what was operated; None is the last try's.
        series: A log from another instrument.
        known: A value or text that is sent, and when, in ns.
        bad: The bad recording; None with ``mode`` against is the lens, against the rest.
        buses: Which bus of this recording is which of the bad one, where names do not say it.
    """

    mode: Mode = "carrier"
    pairing: Pairing = "pairs"
    attempt: str | None = None
    series: Path | None = None
    known: Known | None = None
    bad: Path | None = None
    buses: tuple[tuple[str, str], ...] = ()


NOTHING_SOUGHT = Sought()
"""What is looked for before anybody said anything: the field that follows the marks and readings."""


@dataclass(frozen=True, eq=False)
class Result:
    """What a search gave, and the traffic for drawing.

    Attributes:
        findings: Candidates; empty in the other modes.
        telling: What would tell the first two apart.
        differences: What is wrong in the bad traffic ``bad``; ``buses`` say which bus of it is which of this one's.
        is_partial: Whether only some frames were looked at yet.
    """

    sought: Sought
    findings: Findings
    traffic: Traffic
    spans: tuple[Span, ...]
    points: Points | None
    took_s: float
    telling: str = ""
    differences: Differences | None = None
    bad: dict[int, Column] = field(default_factory=dict)
    buses: BusPairs | None = None
    is_partial: bool = False


class Seen(Protocol):
    """What evidence is taken from: a picture, or one in the making."""

    @property
    def snapshot(self) -> Snapshot:
        """The recording."""

    @property
    def lens(self) -> Span:
        """The window of time that counts."""


def marks_in(seen: Seen, attempt: str | None = None) -> list[Mark]:
    """The marks of a try within the lens; of the last one there by default."""
    marks = [m for m in seen.snapshot.manifest.marks if seen.lens.start <= m.time < seen.lens.end]
    return of_try(marks, attempt)


def tries_in(seen: Seen) -> list[str]:
    """The tries whose marks lie within the lens, the last one last."""
    return tries_of([m for m in seen.snapshot.manifest.marks if seen.lens.start <= m.time < seen.lens.end])


def evidence_spans(seen: Seen, pairing: Pairing, attempt: str | None = None) -> list[Span]:
    """The marked spans of a try within the lens."""
    marks = marks_in(seen, attempt)
    if pairing == "unused":
        return []
    return around(marks) if pairing == "moments" else pair_up(marks)


def readings_of(seen: Seen) -> Points | None:
    """What was read off the display of what is looked for, within the lens."""
    said = [r for r in seen.snapshot.manifest.readings if not r.of]
    said = [r for r in said if seen.lens.start <= r.time < seen.lens.end]
    if not said:
        return None
    return Points(np.array([r.time for r in said]), np.array([r.value for r in said], np.float64)).thinned(len(said))


def has_evidence(seen: Seen, sought: Sought) -> bool:
    """Whether there is enough to search by."""
    readings = readings_of(seen)
    enough = readings is not None and len(readings.values) >= 3
    found = sought.series is not None or sought.known is not None or sought.mode != "carrier"
    return enough or found or bool(evidence_spans(seen, sought.pairing, sought.attempt))


def search(
    making: Making, sought: Sought, stopped: Callable[[], bool], show: Callable[[Result], None] = lambda _: None
) -> Result:
    """Run the hunt, on a thread of its own.

    Args:
        making: What is looked at.
        sought: What is looked for.
        stopped: Asked whether to give up.
        show: Takes a first ranking, from some frames, where there are many.

    Raises:
        KeelError: a file or a recording of the evidence cannot be read.
    """
    if making.ask_error:
        raise InputError("the ask", making.ask_error)
    begin = time.monotonic()
    snapshot, lens = making.snapshot, making.wish.lens
    matches = Matcher(making.node, making.scene).run(snapshot, lens)
    good, bad = matches, None
    buses: BusPairs | None = None
    if sought.mode == "against" and sought.bad is not None:
        other = Recording(find_recording(sought.bad)).snapshot()
        scene = scene_of(other)
        theirs = Matcher(parse(making.wish.ask, scene), scene).run(other)
        if not len(theirs):
            what = "holds no frame" + (" that meets the ask" if other.frames else "")
            raise InputError(str(sought.bad), what, "traffic to compare")
        buses = pair_buses(snapshot, other, dict(sought.buses))
        bad = {buses.to_a(key): replace(column, key=buses.to_a(key)) for key, column in gather(theirs).items()}
    elif sought.mode == "against":
        if lens is None:
            raise InputError("the lens", "shows all of the recording", "a part of it, taken as bad against the rest")
        bad = gather(matches)
        good = Matcher(making.node, making.scene).run(snapshot)
    spans = evidence_spans(making, sought.pairing, sought.attempt)
    start = making.snapshot.zero
    series, within = (
        series_from(making.snapshot, sought.series, start) if sought.series is not None else (None, WITHIN_S)
    )
    evidence = Evidence(tuple(spans), readings_of(making), series, sought.known, within)

    def run(most: int) -> Result:
        columns = gather(good, most=most, together=min(most // 8, BLOCK_FRAMES))
        if bad is not None and sought.bad is None:
            columns = _without(columns, making.lens)
        traffic = Traffic.of(columns, stopped)
        findings, telling, differences = Findings("", 1.0, (), len(columns), len(traffic.carriers)), "", None
        if bad is not None:
            differences = good_against_bad(traffic, bad, stopped)
            telling = "; ".join(buses.words) if buses is not None else ""
        elif sought.mode == "carrier":
            findings = evidence.follow(traffic, stopped)
            telling = telling_of(traffic, findings.candidates, start)
        took, partial = time.monotonic() - begin, most < MOST_FRAMES
        return Result(
            sought,
            findings,
            traffic,
            tuple(spans),
            evidence.points,
            took,
            telling,
            differences,
            bad or {},
            buses,
            partial,
        )

    if len(good) > MANY_FRAMES:
        show(run(FIRST_LOOK))
    return run(MOST_FRAMES)


def telling_of(traffic: Traffic, candidates: tuple[Candidate, ...], start: int) -> str:
    """What would tell the best candidate from the best of another family."""
    if not candidates:
        return ""
    other = next((c for c in candidates if c.family != candidates[0].family), None)
    return tell_apart(traffic, candidates[0], other, start).words if other is not None else ""


def _without(columns: dict[int, Column], span: Span) -> dict[int, Column]:
    """The columns outside a span."""
    kept = {}
    for key, column in columns.items():
        outside = (column.times < span.start) | (column.times >= span.end)
        if outside.any():
            kept[key] = column.part(outside)
    return kept
