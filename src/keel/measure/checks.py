"""The user's own checks: an ask with a bound, passed or failed with figures.

cycle(0A4) within 8ms..12ms        every cycle time of the identifiers that the ask leaves
count(fault:crc) < 5 per 1min      frames that meet the ask, in any stretch so long (without ``per``: in all)
load(a) < 60%                      the load of a bus in its fullest second
"""

from __future__ import annotations

import operator
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.names import scene_of
from keel.ask.nodes import Scene
from keel.ask.times import duration_ns
from keel.errors import AskError
from keel.measure.census import census_of
from keel.measure.load import NOT_FOR_THIS, bus_means
from keel.measure.peaks import PeakFinder, settled
from keel.media.every import key_words
from keel.model.frames import Times
from keel.model.globs import Glob
from keel.model.span import Span
from keel.store.recording import Snapshot

FORMS = ("cycle(0A4) within 8ms..12ms", "count(fault:crc) < 5 per 1min", "load(a) < 60%")
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "=": operator.eq,
}
_TIME = r"\d+(?:\.\d+)?(?:ns|us|µs|ms|s|min|h)"
_RULE = re.compile(
    r"\s*(?P<kind>cycle|count|load)\s*\((?P<of>.*)\)\s*"
    rf"(?:within\s+(?P<low>{_TIME})\s*\.\.\s*(?P<high>{_TIME})"
    rf"|(?P<compare><=|>=|<|>|=)\s*(?P<bound>{_TIME}|\d+(?:\.\d+)?)(?P<percent>\s*%)?(?:\s+per\s+(?P<per>{_TIME}))?)\s*",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class Check:
    """One check. ``low`` and ``high`` are in ns for cycles, else ``bound`` with ``compare``; ``per`` in ns."""

    text: str
    kind: str
    of: str
    compare: str = ""
    bound: float = 0.0
    low: int = 0
    high: int = 0
    per: int = 0


@dataclass(frozen=True)
class Verdict:
    """How a check came out.

    Attributes:
        passed: None if it could not be run.
        figure: What was measured, in words, with what is wrong if it failed.
        at: When the worst was, in ns; None if there is no such moment.
        key: On which identifier, if on one.
        looked: The share of the frames looked at yet.
    """

    text: str
    passed: bool | None
    figure: str
    at: int | None = None
    key: int | None = None
    looked: float = 1.0


def parse_check(text: str) -> Check:
    """A check from its text.

    Raises:
        AskError: it does not parse; carries the position and what was expected.
    """
    found = _RULE.fullmatch(text)
    if found is None:
        start = re.match(r"\s*(cycle|count|load)\s*\(.*\)", text, re.IGNORECASE)
        at = start.end() if start else 0
        raise AskError(at, f"“{text[at:].strip() or 'the end'}” is no bound" if start else "is no check", FORMS)
    kind, of = found["kind"].lower(), found["of"].strip()
    if kind == "cycle" and re.fullmatch(r"[0-9A-Fa-f]{3,8}", of):
        of = f"id:{of}"
    offset = found.start("of")
    if kind != "load":
        try:
            parse(of)
        except AskError as error:
            raise AskError(error.position + offset, error.what, error.expected) from None
    if found["low"]:
        if kind != "cycle":
            raise AskError(found.start("low"), f"{kind} takes one bound, as < 5", FORMS)
        return Check(text, kind, of, low=duration_ns(found["low"]), high=duration_ns(found["high"]))
    bound = found["bound"]
    is_time = bool(re.fullmatch(_TIME, bound, re.IGNORECASE))
    if is_time != (kind == "cycle") or bool(found["percent"]) != (kind == "load") or (found["per"] and kind != "count"):
        raise AskError(found.start("bound"), f"{kind} takes another kind of bound", FORMS)
    value = float(duration_ns(bound)) if is_time else float(bound) / (100 if kind == "load" else 1)
    return Check(text, kind, of, found["compare"], value, per=duration_ns(found["per"]) if found["per"] else 0)


class Runner:
    """Runs one check again and again over a recording that grows; what was looked at is not looked at again."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._peaks = PeakFinder()
        self._matcher: tuple[Scene, Matcher] | None = None
        self._known: tuple[object, Verdict] | None = None

    def run(self, snapshot: Snapshot, lens: Span | None, patience: Callable[[], bool] | None) -> Verdict:
        """How it comes out over a recording, or the part of it in the lens; one that does not parse says why."""
        scene = scene_of(snapshot)
        name = (snapshot.chunks, snapshot.manifest.buses, lens, scene)
        if self._known is not None and self._known[0] == name:
            return self._known[1]
        try:
            verdict = self._run(parse_check(self._text), scene, snapshot, lens, patience)
        except AskError as error:
            verdict = Verdict(self._text, None, str(error))
        if verdict.looked >= 1:
            self._known = (name, verdict)
        return verdict

    def _run(
        self, check: Check, scene: Scene, snapshot: Snapshot, lens: Span | None, patience: Callable[[], bool] | None
    ) -> Verdict:
        if self._matcher is None or self._matcher[0] != scene:
            self._matcher = (scene, Matcher(parse("" if check.kind == "load" else check.of, scene), scene))
        matches = self._matcher[1].run(snapshot, lens, patience)
        if not matches.complete:
            return Verdict(check.text, None, f"not decided yet, {matches.looked:.0%} looked at", looked=matches.looked)
        span = lens or snapshot.span
        if check.kind == "load":
            return _load(check, snapshot, matches, span, self._peaks, patience)
        return _cycle(check, matches, span) if check.kind == "cycle" else _count(check, matches, span)


class Runners:
    """Runs the user's checks, each by a `Runner` that is kept as long as the check is there."""

    def __init__(self) -> None:
        self._kept: dict[str, Runner] = {}

    def run(
        self,
        texts: list[str],
        snapshot: Snapshot,
        lens: Span | None = None,
        patience: Callable[[], bool] | None = None,
    ) -> list[Verdict]:
        """How they come out, in their order."""
        self._kept = {text: self._kept.get(text) or Runner(text) for text in texts}
        return [self._kept[text].run(snapshot, lens, patience) for text in texts]


def run_checks(texts: list[str], snapshot: Snapshot, lens: Span | None = None) -> list[Verdict]:
    """Run checks from their texts, once; one that does not parse says why."""
    return Runners().run(texts, snapshot, lens)


def _cycle(check: Check, matches: Matches, span: Span) -> Verdict:
    worst: tuple[float, str, int | None, int] | None = None
    least, most, some = 0, 0, False
    for key, tally in census_of(matches).items():
        cycle = tally.cycle
        if not cycle.count:
            continue
        least = min(least, cycle.least) if some else cycle.least
        most = max(most, cycle.most)
        some = True
        if check.compare:
            value = cycle.most if check.compare in ("<", "<=") else cycle.least
            bad = 0.0 if _COMPARE[check.compare](value, check.bound) else max(abs(value - check.bound), 0.5)
        else:
            bad = float(max(check.low - cycle.least, cycle.most - check.high, 0))
        if bad and (worst is None or bad > worst[0]):
            at = int(tally.joined.most_at[tally.row]) if cycle.most > (check.high or check.bound) else None
            worst = (bad, f"{key_words(key)} {_ms(cycle.least)} to {_ms(cycle.most)}", at, key)
    if not some:
        return Verdict(check.text, None, "no two frames to measure between")
    if worst is not None:
        return Verdict(check.text, False, worst[1], worst[2], worst[3])
    return Verdict(check.text, True, f"{_ms(least)} to {_ms(most)}")


def _ms(ns: float) -> str:
    return f"{ns / 1e6:.3f} ms"


def _count(check: Check, matches: Matches, span: Span) -> Verdict:
    if not check.per:
        count = len(matches)
        return Verdict(check.text, bool(_COMPARE[check.compare](count, check.bound)), f"{count} frames")
    fewest = check.compare in (">", ">=")
    count, at = count_within(matches, span, check.per, fewest)
    passed = bool(_COMPARE[check.compare](count, check.bound))
    return Verdict(check.text, passed, f"{'at least' if fewest else 'at most'} {count}", at)


def count_within(matches: Matches, span: Span, per: int, fewest: bool) -> tuple[int, int | None]:
    """The most matches in any stretch of ``per`` ns, or the fewest in any that lies in the span; and when it began."""
    parts = [part for part in matches.parts if part.count]
    best: tuple[int, int | None] = (len(matches), span.start) if fewest else (0, None)
    late = np.zeros(0, np.int64)
    waiting = True
    pieces: list[Times] = []
    for place, part in enumerate(parts):
        mask = part.stored_mask()
        times = np.sort(part.chunk.batch.time if mask is None else part.chunk.batch.time[mask])
        pieces.append(times)
        # A stretch that begins in this part may end in the next: what is late is counted with that.
        known = np.sort(np.concatenate([late, times]))
        final = place == len(parts) - 1
        sure = known if final else known[known < known[-1] - per]
        if fewest:
            starts = sure
            if waiting and (final or known[-1] > span.start + per):
                starts, waiting = np.concatenate([[span.start], sure]), False
            starts = starts[starts + per <= span.end]
            first = np.searchsorted(known, starts, side="right")
            counts = np.searchsorted(known, starts + per, side="right") - first
        else:
            starts = sure
            counts = np.searchsorted(known, starts + per) - np.searchsorted(known, starts)
        if len(counts):
            at = int(np.argmin(counts) if fewest else np.argmax(counts))
            if (counts[at] < best[0]) if fewest else (counts[at] > best[0]):
                best = (int(counts[at]), int(starts[at]))
        late = known[known >= known[-1] - per]
    return best


def _load(
    check: Check,
    snapshot: Snapshot,
    matches: Matches,
    span: Span,
    finder: PeakFinder,
    patience: Callable[[], bool] | None,
) -> Verdict:
    names = snapshot.manifest.bus_names
    meant = sorted(Glob.read(check.of).among(names))
    if len(meant) != 1:
        why = f"“{check.of}” means {' and '.join(meant)}" if meant else f"no bus is called “{check.of}”"
        return Verdict(check.text, None, f"{why}; there is {', '.join(names)}")
    place = names.index(meant[0])
    found = finder.find(matches, patience) if patience is not None else finder.find(matches)
    if found.looked < 1:
        return Verdict(check.text, None, f"not decided yet, {found.looked:.0%} looked at", looked=found.looked)
    means = bus_means(matches, span)
    if not means[place].has_load:
        return Verdict(check.text, None, f"a load is {NOT_FOR_THIS}")
    peak = settled(found.buses, means, span)[place]
    if peak is None:
        return Verdict(check.text, None, "too short a time to say a load")
    passed = bool(_COMPARE[check.compare](peak.load, check.bound))
    return Verdict(check.text, passed, f"{peak.load:.1%} in the fullest second", peak.at)
