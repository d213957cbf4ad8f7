"""What can be saved from a view, and saving it. Runs on a worker thread."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.dialogs import Offer
from keel.app.picture import Picture
from keel.app.state import HUNT
from keel.model.identity import key_words

if TYPE_CHECKING:
    from keel.app.search import Result
    from keel.hunt.candidates import Candidate

BLOCK = 16_384


def offers(picture: Picture, view: str, pick: int | None, candidate: Candidate | None) -> list[Offer]:
    """What can be saved now, the likeliest first."""
    stem = re.sub(r"[^\w.-]+", "-", picture.snapshot.manifest.name)
    found = [Offer("load", "the tape: load of each bus over the lens, faults and marks", f"{stem}-load.svg")]
    if pick is not None and pick in picture.census:
        ident = key_words(pick)
        title = f"cycle times of {picture.name(pick)} {ident} as a histogram"
        found.append(Offer("cycles", title, f"{stem}-cycles-{ident.replace('—', 'none')}.svg"))
    if candidate is not None and view == HUNT:
        title = f"candidate {key_words(candidate.key)} {candidate.field.words()} over the marks"
        found.insert(0, Offer("candidate", title, f"{stem}-candidate-{key_words(candidate.key)}.svg"))
    csv = Offer("csv", f"the {len(picture.matches)} frames shown, as CSV", f"{stem}-frames.csv")
    found.insert(0, csv) if view == "frames" else found.append(csv)
    return found


def save(
    kind: str,
    path: Path,
    picture: Picture,
    pick: int | None,
    result: Result | None,
    candidate: Candidate | None,
) -> None:
    """Save one of the `offers`.

    Raises:
        KeelError: the path's ending names no form we draw.
        OSError: the file cannot be written.
    """
    if kind == "csv":
        _save_csv(path, picture)
        return
    from keel.draw.charts import draw_candidate, draw_cycles, draw_load

    manifest = picture.snapshot.manifest
    if kind == "load":
        from keel.measure.load import Loads, cells_for

        series = Loads().series(picture.snapshot, picture.lens, cells_for(picture.lens, 300))
        title = f"{manifest.name}: load, exact bits on the wire"
        draw_load(path, title, series, manifest.buses, manifest.marks, picture.whole.start)
    elif kind == "cycles" and pick is not None:
        from keel.measure.cycles import describe_tally

        if pick in picture.census:
            name = f"{picture.name(pick)} {key_words(pick)}"
            cycle = describe_tally(picture.census[pick], picture.lens.end, 40, manifest.nominal.get(pick, 0))
            draw_cycles(path, manifest.name, [(name, pick >> 56, cycle)])
    elif kind == "candidate" and result is not None and candidate is not None:
        times, values = result.traffic.values(candidate)
        title = f"{picture.name(candidate.key)} {key_words(candidate.key)}, {candidate.field.words()}"
        spans = list(result.spans)
        draw_candidate(path, title, candidate.why, times, values, spans, picture.lens, picture.whole.start)


def _save_csv(path: Path, picture: Picture) -> None:
    from keel.app.pages import all_matches
    from keel.ask.rows import frames_at
    from keel.formats.rows import csv_text

    names = {key: m.name for key, m in picture.messages.items()}
    buses = picture.snapshot.manifest.bus_names
    matches = all_matches(picture)
    count = len(matches)
    with path.open("w", encoding="utf-8", newline="") as file:
        for at in range(0, max(count, 1), BLOCK):
            numbers = matches.numbers(at, min(at + BLOCK, count))
            batch = frames_at(matches, at, min(at + BLOCK, count))
            file.write(csv_text(batch, buses, picture.whole.start, names, (numbers + 1).tolist(), at == 0))
