"""The order of the rows in Watch: sorted, grouped; silent identifiers move to the end and show since when."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np

from keel.app.desk.picture import Picture
from keel.app.views.watch.choices import Range, WatchChoices
from keel.app.views.watch.wants import Watched, WatchWant
from keel.ask.narrowing import of_bus
from keel.ask.terms import Names
from keel.measure.census import Census, Tally
from keel.measure.cycles import heard, heard_in
from keel.measure.joining import Joined
from keel.media.every import form_of
from keel.model.frames import Times
from keel.model.globs import Glob
from keel.model.identity import IDENT_BITS, IDENT_MASK, Keys, unpack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S

CALLED = 5_000
"""So many identifiers at most are sorted by what their frames say they are called."""
GROUPS = ("", "bus", "name", "identifiers")


@dataclass(frozen=True)
class Heading:
    """The title of a group: what it holds, and the ask that leaves it."""

    title: str
    ask: str
    keys: tuple[int, ...]


@dataclass(frozen=True)
class Roster:
    """Keys and headings in the order they are shown; ``silent`` says since when each silent key is (ns)."""

    rows: tuple[int | Heading, ...]
    keys: tuple[int, ...]
    silent: dict[int, int]


def per_second(tally: Tally, lens: Span, baseline: int | None, frames: int) -> float:
    """Frames a second while an identifier was heard, and counted."""
    heard = heard_in(tally, lens)
    return frames * NS_PER_S / max(heard.end - max(heard.start, baseline or 0), 1)


def arrange(picture: Picture, choices: WatchChoices) -> Roster:
    """The rows of Watch: sorted, grouped; silent identifiers move to the end."""
    census, group, ranges = picture.census, choices.group, choices.ranges
    if not isinstance(census, Census) or not census:
        return Roster((), (), {})
    joined = census.joined
    starts, ends = heard(joined, picture.lens)
    is_silent = ends != picture.lens.end
    place = np.empty(len(joined.keys), np.int64)
    place[by_identifier(joined.keys)] = np.arange(len(place))
    order = np.lexsort((place, _worth(picture, choices.sort, joined, place, (starts, ends))))
    if choices.turned:
        order = order[::-1]
    order = np.concatenate([order[~is_silent[order]], order[is_silent[order]]])
    ordered: list[int] = joined.keys[order].tolist()
    silent = dict(zip(joined.keys[is_silent].tolist(), joined.last[is_silent].tolist(), strict=True))
    if not group:
        return Roster(tuple(ordered), tuple(ordered), silent)
    groups: dict[str, list[int]] = {}
    asks: dict[str, str] = {}
    for key in sorted(census):
        title, ask = _group_of(picture, key, group, ranges)
        groups.setdefault(title, [])
        asks[title] = ask
    for key in ordered:
        groups[_group_of(picture, key, group, ranges)[0]].append(key)
    rows: list[int | Heading] = []
    for title, keys in groups.items():
        rows += [Heading(title, asks[title], tuple(keys)), *keys]
    return Roster(tuple(rows), tuple(row for row in rows if isinstance(row, int)), silent)


def by_identifier(keys: Keys) -> Any:
    """The places of keys sorted by bus and identifier: forms of a fixed width apart, roles of one beside each other."""
    forms = (keys >> np.uint64(IDENT_BITS) & np.uint64(0xFF)).astype(np.int64)
    group = np.zeros(256, np.int64)
    for form in np.unique(forms).tolist():
        group[form] = form if form_of(form).digits else 256
    return np.lexsort((forms, keys & np.uint64(IDENT_MASK), group[forms], keys >> np.uint64(56)))


def _worth(picture: Picture, sort: str, joined: Joined, place: Any, span: tuple[Times, Times]) -> Any:
    """What rows are sorted by, shape (n,); the least comes first."""
    watched = picture.part(Watched) or Watched()
    keys, census = joined.keys, picture.census
    want = picture.wish.want
    baseline = want.baseline if isinstance(want, WatchWant) else None

    def counted(name: str) -> Any:
        since = watched.since
        source = since.joined if isinstance(since, Census) else joined
        column = getattr(source, name)
        at = np.minimum(np.searchsorted(source.keys, keys), max(len(source.keys) - 1, 0))
        return np.where(source.keys[at] == keys, column[at], 0) if len(source.keys) else np.zeros(len(keys), np.int64)

    if sort == "bus":
        return keys >> np.uint64(56)
    if sort == "name":
        few = len(keys) <= CALLED
        names = [
            (picture.called(key, census[key].payload)[0] if few else picture.name(key)).lower() for key in keys.tolist()
        ]
        ranks = {name: rank for rank, name in enumerate(sorted(set(names), key=lambda n: (n == "—", n)))}
        return np.array([ranks[name] for name in names])
    if sort in ("len", "payload"):
        if sort == "len":
            return -np.array([census[key].size for key in keys.tolist()])
        payloads = [census[key].payload for key in keys.tolist()]
        by_bytes = {payload: rank for rank, payload in enumerate(sorted(set(payloads)))}
        return np.array([by_bytes[payload] for payload in payloads])
    if sort == "rate":
        starts, ends = span
        return -counted("frames") / np.maximum(ends - np.maximum(starts, baseline or 0), 1)
    if sort == "activity":
        shown = watched.activity
        return np.array([-int(shown[key][-1]) if key in shown else 0 for key in keys.tolist()])
    if sort in ("frames", "moved"):
        return -counted({"moved": "changes"}.get(sort, sort))
    if sort == "cycle":
        return joined.mean
    if sort == "jitter":
        return -joined.squares / np.maximum(joined.steps, 1)
    return -joined.faulty if sort == "faults" else place


def _group_of(picture: Picture, key: int, group: str, ranges: tuple[Range, ...]) -> tuple[str, str]:
    if group == "bus":
        name = picture.bus_name(key)
        return f"bus {name}", str(of_bus(name))
    if group == "name":
        known = picture.name(key)
        # The first word of a name: PackOneState and PackTwoState are both of Pack.
        found = re.match(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\w+", known)
        if known == "—" or found is None:
            return "without a name", ""
        return f"{found.group()}…", str(Names((Glob(f"{found.group()}*"),)))
    _, _, ident = unpack_key(key)
    for low, high in ranges:
        if low <= ident <= high:
            return f"identifiers {low:03X} to {high:03X}", f"id:{low:03X}..{high:03X}"
    return "other identifiers", ""


def range_of(a: int, b: int) -> Range:
    """The identifiers from one row's to another's."""
    low, high = sorted(unpack_key(key)[2] for key in (a, b))
    return low, high
