"""What can be exported from any view, besides what the view itself offers."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keel.app.desk.frame_pages import all_matches
from keel.app.frame.helm import Here, Offer
from keel.app.frame.view import View
from keel.draw.drawings import DRAWINGS, Drawing, Material
from keel.media.every import key_words

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture

BLOCK = 16_384


def stem_of(picture: Picture) -> str:
    """What the proposed names begin with."""
    return re.sub(r"[^\w.-]+", "-", picture.snapshot.manifest.name)


def offers_of(view: View, here: Here) -> list[Offer]:
    """What can be exported now: of the view first, then of the identifier in hand, then of all that is shown."""
    picture, pick = here.picture, view.pick(here)
    stem = stem_of(picture)
    found = list(view.offers(here))
    rows = Offer(
        f"the {len(picture.matches)} frames shown, as CSV", f"{stem}-frames.csv", lambda path: _save_csv(path, picture)
    )
    if not view.counts:
        found.append(rows)
    ident = key_words(pick).replace("—", "none") if pick is not None else ""
    for made in DRAWINGS:
        if made.needs == "nothing":
            found.append(drawn(made, picture))
        elif made.needs == "an identifier" and pick is not None and pick in picture.census:
            of = f"{picture.name(pick)} {ident}".strip()
            found.append(drawn(made, picture, of, f"-{ident}", keys=(pick,)))
    return found if rows in found else [*found, rows]


def drawn(made: Drawing, picture: Picture, of: str = "", file: str = "", **given: Any) -> Offer:
    """A drawing of what is shown.

    Args:
        made: Which drawing.
        picture: What is shown.
        of: What is in hand, in words.
        file: The same, in the name of the file that is proposed.
        given: The fields of `Material` it needs.
    """

    def save(path: Path) -> list[str]:
        shown = Material(picture.snapshot, all_matches(picture), picture.lens, picture.wish.ask, **given)
        made.draw(shown, path)
        return []

    return Offer(made.words.format(of=of), f"{stem_of(picture)}-{made.name}{file}.svg", save)


def _save_csv(path: Path, picture: Picture) -> list[str]:
    from keel.ask.fetch import frames_at
    from keel.formats.exporting import Setting, open_writer

    names = {key: m.name for key, m in picture.messages.items()}
    matches = all_matches(picture)
    writer = open_writer(path, "csv", Setting(picture.snapshot.manifest.buses, picture.zero, names, [], {}))
    try:
        for at in range(0, len(matches), BLOCK):
            writer.write(frames_at(matches, at, at + BLOCK), matches.numbers(at, at + BLOCK))
    finally:
        writer.close()
    return writer.losses.sentences()
