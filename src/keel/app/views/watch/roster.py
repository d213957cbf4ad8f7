"""The order of the rows in Watch: sorted, grouped; silent identifiers move to the end and show since when."""

from __future__ import annotations

import re
from dataclasses import dataclass

from keel.app.desk.picture import Picture
from keel.app.views.watch.choices import Range, WatchChoices
from keel.app.views.watch.wants import Watched, WatchWant
from keel.ask.narrowing import of_bus
from keel.ask.terms import Names
from keel.measure.census import Tally
from keel.measure.cycles import heard_in
from keel.model.globs import Glob
from keel.model.identity import unpack_key
from keel.model.span import Span
from keel.model.units import NS_PER_S

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


def silent_since(picture: Picture, tally: Tally) -> int | None:
    """When an identifier was heard last, if it is silent now: for longer than several of its cycles."""
    return None if heard_in(tally, picture.lens).end == picture.lens.end else tally.last


def per_second(tally: Tally, lens: Span, baseline: int | None, frames: int) -> float:
    """Frames a second while an identifier was heard, and counted."""
    heard = heard_in(tally, lens)
    return frames * NS_PER_S / max(heard.end - max(heard.start, baseline or 0), 1)


def arrange(picture: Picture, choices: WatchChoices) -> Roster:
    """The rows of Watch: sorted, grouped; silent identifiers move to the end."""
    sort, group, ranges = choices.sort, choices.group, choices.ranges
    census, watched = picture.census, picture.part(Watched) or Watched()
    silent = {key: at for key in census for at in [silent_since(picture, census[key])] if at is not None}
    since, activity = watched.since, watched.activity
    want = picture.wish.want
    baseline = want.baseline if isinstance(want, WatchWant) else None

    def counted(key: int, name: str) -> int:
        source = since if since is not None else census
        return int(getattr(source[key], name)) if key in source else 0

    def worth(key: int) -> object:
        tally = census[key]
        values: dict[str, object] = {
            "bus": key >> 56,
            "name": (picture.name(key) == "—", picture.name(key).lower()),
            "frames": -counted(key, "frames"),
            "rate": -per_second(tally, picture.lens, baseline, counted(key, "frames")),
            "cycle": tally.cycle.mean,
            "jitter": -tally.cycle.deviation,
            "activity": -int(activity[key][-1]) if key in activity else 0,
            "moved": -counted(key, "changes"),
            "faults": -tally.faults,
        }
        if sort == "len":
            return -len(tally.payload)
        return tally.payload if sort == "payload" else values.get(sort, 0)

    ordered = sorted(census, key=lambda key: (worth(key), key), reverse=choices.turned)
    ordered.sort(key=lambda key: key in silent)
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
