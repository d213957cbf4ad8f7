"""What can be exported from any view, besides what the view itself offers."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk.frame_pages import all_matches
from keel.app.frame.helm import Here, Offer
from keel.app.frame.view import View
from keel.model.identity import key_words

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture

BLOCK = 16_384
CHART_CELLS = 300


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
    load = "the tape: load of each bus over the lens, faults and marks"
    found.append(Offer(load, f"{stem}-load.svg", lambda path: _save_load(path, picture)))
    if pick is not None and pick in picture.census:
        ident = key_words(pick).replace("—", "none")
        of, key = f"{picture.name(pick)} {ident}", pick
        found += [
            Offer(
                f"cycle times of {of} as a histogram",
                f"{stem}-cycles-{ident}.svg",
                lambda path: _save_cycles(path, picture, key),
            ),
            Offer(f"the bit loom of {of}", f"{stem}-loom-{ident}.svg", lambda path: _save_loom(path, picture, key)),
            Offer(f"the ribbon of {of}", f"{stem}-ribbon-{ident}.svg", lambda path: _save_ribbon(path, picture, key)),
        ]
    return found if rows in found else [*found, rows]


def _save_load(path: Path, picture: Picture) -> list[str]:
    from keel.draw.charts import draw_load
    from keel.measure.load import Loads, cells_for

    manifest = picture.snapshot.manifest
    series = Loads().series(all_matches(picture), picture.lens, cells_for(picture.lens, CHART_CELLS))
    of = f", of {picture.wish.ask}" if picture.wish.ask else ""
    title = f"{manifest.name}: load, exact bits on the wire{of}"
    draw_load(path, title, series, manifest.buses, manifest.marks, picture.whole.start)
    return []


def _save_cycles(path: Path, picture: Picture, key: int) -> list[str]:
    from keel.draw.charts import draw_cycles
    from keel.measure.cycles import describe_tally

    manifest = picture.snapshot.manifest
    name = f"{picture.name(key)} {key_words(key)}"
    cycle = describe_tally(picture.census[key], picture.lens.end, 40, manifest.nominal.get(key, 0))
    draw_cycles(path, manifest.name, [(name, key >> 56, cycle)])
    return []


def _save_csv(path: Path, picture: Picture) -> list[str]:
    from keel.ask.fetch import frames_at
    from keel.formats.exporting import Setting, open_writer

    names = {key: m.name for key, m in picture.messages.items()}
    matches = all_matches(picture)
    writer = open_writer(path, "csv", Setting(picture.snapshot.manifest.bus_names, picture.whole.start, names, [], {}))
    try:
        for at in range(0, len(matches), BLOCK):
            writer.write(frames_at(matches, at, at + BLOCK), matches.numbers(at, at + BLOCK))
    finally:
        writer.close()
    return writer.losses.sentences()


def _save_ribbon(path: Path, picture: Picture, key: int) -> list[str]:
    from keel.draw.fields import draw_ribbon

    payload = picture.census[key].payload
    if not payload:
        raise _no_payload(path)
    message = picture.messages.get(key)
    title = f"{picture.snapshot.manifest.name}: {picture.name(key)} {key_words(key)}"
    parts = [(s.name, s.field, s.role) for s in message.present(payload)] if message else []
    draw_ribbon(path, f"{title}, its last payload", payload, parts)
    return []


def _save_loom(path: Path, picture: Picture, key: int) -> list[str]:
    from keel.draw.fields import LOOM_ROWS, draw_loom
    from keel.hunt.columns import flip_shares, gather
    from keel.model.span import Span

    column = gather(all_matches(picture), key).get(key)
    if column is None or not len(column.times) or not column.payloads.shape[1]:
        raise _no_payload(path)
    message = picture.messages.get(key)
    title = f"{picture.snapshot.manifest.name}: {picture.name(key)} {key_words(key)}"
    size = column.payloads.shape[1]
    parts = [(s.name, s.field, s.role) for s in message.signals if s.field.last_byte < size] if message else []
    edges = Span(int(column.times[0]), int(column.times[-1]) + 1).edges(LOOM_ROWS)
    draw_loom(path, f"{title}: bit loom", flip_shares(column, edges), edges, picture.whole.start, parts)
    return []


def _no_payload(path: Path) -> Exception:
    from keel.errors import InputError

    return InputError(str(path), "the identifier in hand has no payload here", "another identifier, or lens")
