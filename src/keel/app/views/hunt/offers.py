"""What can be exported of Hunt: a candidate over the evidence."""

from __future__ import annotations

from keel.app.dialogs.offers import drawn
from keel.app.frame.helm import Here, Offer
from keel.app.views.hunt.search import Result
from keel.draw.drawings import Found, drawing
from keel.hunt.candidates import Candidate
from keel.media.every import key_words


def offers_of(here: Here, result: Result, candidate: Candidate) -> list[Offer]:
    """The drawing of a candidate."""
    ident = key_words(candidate.key)
    found = Found(candidate, result.traffic, result.spans, result.points)
    return [drawn(drawing("candidate"), here.picture, f"{ident} {candidate.field.words()}", f"-{ident}", found=found)]
