"""What can be exported of Hunt: a candidate over the evidence."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.dialogs.offers import stem_of
from keel.app.frame.helm import Here, Offer
from keel.app.views.hunt.search import Result
from keel.hunt.candidates import Candidate
from keel.model.identity import key_words

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture


def offers_of(here: Here, result: Result, candidate: Candidate) -> list[Offer]:
    """The drawing of a candidate."""
    ident, picture = key_words(candidate.key), here.picture
    title = f"candidate {ident} {candidate.field.words()} over the evidence"
    path = f"{stem_of(picture)}-candidate-{ident}.svg"
    return [Offer(title, path, lambda given: _save(given, picture, result, candidate))]


def _save(path: Path, picture: Picture, result: Result, candidate: Candidate) -> list[str]:
    from keel.draw.charts import draw_candidate

    times, raw = result.traffic.values(candidate.key, candidate.field, candidate.page)
    title = f"{picture.name(candidate.key)} {key_words(candidate.key)}, {candidate.field.words()}"
    has_scale = candidate.scale is not None
    values = raw * candidate.scale + (candidate.offset or 0.0) if candidate.scale is not None else raw
    points = result.points if has_scale else None
    start = picture.whole.start
    draw_candidate(path, title, candidate.why, times, values, result.spans, picture.lens, start, points)
    return []
