"""When sources were not there: of the recording as it is written down, and of what its recorder says now."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.store.manifest import Hole

MOST = 1000


def holes_of(picture: Picture) -> list[Hole]:
    """All holes, those that are still open until the end of the recording or a moment later."""
    found = list(picture.snapshot.manifest.holes)
    if picture.status is not None:
        found += said(picture.status.holes, picture.whole.end)
    return found


def said(holes: Sequence[Any], now: int) -> list[Hole]:
    """Of what a recorder says, all that can be holes."""
    from keel.model.extensible import plain_of_kind
    from keel.model.safe_text import plain
    from keel.store.manifest import Hole

    found = []
    for one in holes[:MOST]:
        with suppress(ValueError, TypeError, LookupError):
            start, end = one["start"], one["end"]
            hole = plain_of_kind({**one, "end": max(start, now) if end is None else end}, Hole)
            if hole.start <= hole.end:
                found.append(Hole(hole.start, hole.end, tuple(plain(bus) for bus in hole.buses), plain(hole.why, 200)))
    return found
