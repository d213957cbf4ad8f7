"""How the recording itself goes, or went: what comes and is written, what was lost and where, when nothing came."""

from __future__ import annotations

from keel.app.desk.holes import holes_of
from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.model.safe_text import plain
from keel.store.manifest import Hole

PLACES = {"kernel": "kernel", "reader": "Keel's buffer", "disk": "disk", "source": "before it came"}
NAME = 13


def recording_lines(here: Here) -> list[Line]:
    """One line or two; none where there is nothing to say."""
    lines: list[Line] = []
    for text, is_bad in (*_now(here), *_so_far(here)):
        line = here.line()
        line.put(2, "" if lines else "recording", here.style("dim"), NAME)
        line.put(2 + NAME, text, here.style("coral" if is_bad else "text"), here.width - NAME - 4)
        lines.append(line)
    return lines


def _now(here: Here) -> list[tuple[str, bool]]:
    """How it goes now; nothing if it has ended."""
    status = here.picture.status
    if status is None or not here.picture.snapshot.live:
        return []
    said = f"{status.in_hz:,.0f}/s in · {status.disk_hz:,.0f}/s to disk · buffer {words.percent(status.buffer)}"
    if status.disk_left_s >= 0:
        said += f" · disk lasts {words.lasting(status.disk_left_s)}"
    if not status.trouble:
        return [(said.replace(",", " "), False)]
    return [(f"✕ {plain(status.trouble, 300)} · {said}".replace(",", " "), True)]


def _so_far(here: Here) -> list[tuple[str, bool]]:
    """What was lost, when the clock was set, and when nothing came."""
    picture, status = here.picture, here.picture.status
    lost = picture.snapshot.manifest.lost + (status.lost if status is not None else 0)
    holes, steps = holes_of(picture), status.clock_steps if status is not None else 0
    if status is None and not lost and not holes:
        return []
    where = {} if status is None else {name: status.lost_at.get(name) for name in PLACES}
    places = ", ".join(f"{PLACES[name]} {count}" for name, count in where.items() if isinstance(count, int) and count)
    said = [f"{words.count(lost)} lost" + (f": {places}" if places else "")]
    if status is not None:
        said.append(f"clock set {steps}×" if steps else "clock never set")
    if holes:
        said.append(_holes_words(holes, picture.zero))
    else:
        said.append("no holes")
    return [(" · ".join(said), bool(lost or holes))]


def _holes_words(holes: list[Hole], zero: int) -> str:
    longest = max(holes, key=lambda hole: hole.end - hole.start)
    at, gone = words.seconds(longest.start - zero, 1), words.length(longest.end - longest.start)
    count = f"{len(holes)} holes, the longest" if len(holes) > 1 else "1 hole,"
    return f"{count} {gone} at {at} s on {', '.join(longest.buses)}: {longest.why}"
