"""What can be exported of Line: the drawing of the lens, and the frames with when each began and ended."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk.frame_pages import all_matches
from keel.app.dialogs.offers import BLOCK, drawn, stem_of
from keel.app.frame.helm import Here, Offer
from keel.draw.drawings import drawing

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.store.waveform_entries import WaveformEntry


def offers_of(here: Here, shown: Sequence[WaveformEntry], cursors: Sequence[int]) -> list[Offer]:
    """Drawing and frames."""
    picture = here.picture
    if not shown:
        return []
    of = f"{len(shown)} channel{'s' if len(shown) != 1 else ''}"
    channels = tuple(entry.number for entry in shown)
    found = [drawn(drawing("line"), picture, of, channels=channels, cursors=tuple(cursors))]
    if picture.snapshot.manifest.lines:
        name = f"{stem_of(picture)}-spans.csv"
        found.append(Offer("frames with begin and end, as CSV", name, lambda path: _save_spans(path, picture)))
    return found


def _save_spans(path: Path, picture: Picture) -> list[str]:
    from keel.ask.fetch import frames_at
    from keel.formats.frame_lines import spans_text

    matches = all_matches(picture)
    with path.open("w", encoding="utf-8", newline="") as file:
        for at in range(0, max(len(matches), 1), BLOCK):
            batch = frames_at(matches, at, at + BLOCK)
            numbers = matches.numbers(at, at + BLOCK).tolist()
            file.write(spans_text(batch, picture.snapshot.manifest.buses, numbers, at == 0))
    return []
