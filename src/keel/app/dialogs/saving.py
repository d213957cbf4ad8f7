"""What can be saved from a view, and saving it. Runs on a worker thread."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from keel.app.desk.picture import Picture
from keel.app.dialogs.dialogs import Offer
from keel.app.shared.state import COMPARE, HUNT, VALUES
from keel.model.identity import key_words

if TYPE_CHECKING:
    from keel.app.views.hunt.search import Result
    from keel.compare.differences import Comparison
    from keel.hunt.candidates import Candidate
    from keel.measure.courses import Name
    from keel.signals.dictionary import Message
    from keel.signals.signal import Signal

BLOCK = 16_384
DRAWN_COLUMNS = 1200


@dataclass(frozen=True)
class Subject:
    """What the views have in hand.

    Attributes:
        pick: The identifier.
        candidate, result: Of Hunt.
        plotted: The signals that Values draws, and its two cursors.
        found: What Compare found.
    """

    view: str
    pick: int | None = None
    candidate: Candidate | None = None
    result: Result | None = None
    plotted: tuple[Name, ...] = ()
    cursors: tuple[int, ...] = ()
    found: Comparison | None = None


def offers(picture: Picture, subject: Subject) -> list[Offer]:
    """What can be saved now, the likeliest first."""
    stem = re.sub(r"[^\w.-]+", "-", picture.snapshot.manifest.name)
    view, pick, candidate = subject.view, subject.pick, subject.candidate
    found = [Offer("load", "the tape: load of each bus over the lens, faults and marks", f"{stem}-load.svg")]
    if pick is not None and pick in picture.census:
        ident = key_words(pick).replace("—", "none")
        title = f"cycle times of {picture.name(pick)} {ident} as a histogram"
        found.append(Offer("cycles", title, f"{stem}-cycles-{ident}.svg"))
        found.append(Offer("loom", f"the bit loom of {picture.name(pick)} {ident}", f"{stem}-loom-{ident}.svg"))
        found.append(Offer("ribbon", f"the ribbon of {picture.name(pick)} {ident}", f"{stem}-ribbon-{ident}.svg"))
    if candidate is not None and view == HUNT:
        title = f"candidate {key_words(candidate.key)} {candidate.field.words()} over the evidence"
        found.insert(0, Offer("candidate", title, f"{stem}-candidate-{key_words(candidate.key)}.svg"))
    csv = Offer("csv", f"the {len(picture.matches)} frames shown, as CSV", f"{stem}-frames.csv")
    found.insert(0, csv) if view == "frames" else found.append(csv)
    if view == VALUES and subject.plotted:
        count = len(subject.plotted)
        of = f"{count} signal{'s' if count != 1 else ''}"
        found[:0] = [
            Offer("values", f"the plots: {of} over the lens", f"{stem}-values.svg"),
            Offer("values csv", f"the values of {of}, as CSV", f"{stem}-values.csv"),
            Offer("values parquet", f"the values of {of}, as Parquet", f"{stem}-values.parquet"),
        ]
    if view == COMPARE and subject.found is not None:
        count = len(subject.found.differences)
        found[:0] = [
            Offer("report", f"the {count} differences as a report with drawings, HTML", f"{stem}-compared.html"),
            Offer("report json", f"the {count} differences as JSON", f"{stem}-compared.json"),
        ]
    return found


def save(kind: str, path: Path, picture: Picture, subject: Subject) -> list[str]:
    """Save one of the `offers`; gives back what the file could not say of it.

    Raises:
        KeelError: the path's ending names no form we draw.
        OSError: the file cannot be written.
    """
    pick = subject.pick
    if kind.startswith("values"):
        _save_values(kind, path, picture, subject)
    elif kind.startswith("report"):
        _save_report(kind, path, subject)
    elif kind in ("loom", "ribbon") and pick is not None:
        _save_payloads(kind, path, picture, pick)
    elif kind == "csv":
        return _save_csv(path, picture)
    else:
        _save_chart(kind, path, picture, subject)
    return []


def _save_chart(kind: str, path: Path, picture: Picture, subject: Subject) -> None:
    pick, result, candidate = subject.pick, subject.result, subject.candidate
    from keel.draw.charts import draw_candidate, draw_cycles, draw_load

    manifest = picture.snapshot.manifest
    if kind == "load":
        from keel.app.desk.frame_pages import all_matches
        from keel.measure.load import Loads, cells_for

        series = Loads().series(all_matches(picture), picture.lens, cells_for(picture.lens, 300))
        of = f", of {picture.wish.ask}" if picture.wish.ask else ""
        title = f"{manifest.name}: load, exact bits on the wire{of}"
        draw_load(path, title, series, manifest.buses, manifest.marks, picture.whole.start)
    elif kind == "cycles" and pick is not None:
        from keel.measure.cycles import describe_tally

        if pick in picture.census:
            name = f"{picture.name(pick)} {key_words(pick)}"
            cycle = describe_tally(picture.census[pick], picture.lens.end, 40, manifest.nominal.get(pick, 0))
            draw_cycles(path, manifest.name, [(name, pick >> 56, cycle)])
    elif kind == "candidate" and result is not None and candidate is not None:
        times, raw = result.traffic.values(candidate)
        title = f"{picture.name(candidate.key)} {key_words(candidate.key)}, {candidate.field.words()}"
        values: Any = raw
        if candidate.scale is not None:
            values = raw * candidate.scale + (candidate.offset or 0.0)
        points = result.points if candidate.scale is not None else None
        draw_candidate(
            path, title, candidate.why, times, values, result.spans, picture.lens, picture.whole.start, points
        )


def _save_csv(path: Path, picture: Picture) -> list[str]:
    from keel.app.desk.frame_pages import all_matches
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


def _save_values(kind: str, path: Path, picture: Picture, subject: Subject) -> None:
    from keel.app.desk.frame_pages import all_matches
    from keel.formats.signal_rows import Chosen, ValuesWriter, csv_text, values_of

    matches = all_matches(picture)
    chosen: dict[int, Chosen] = {}
    series: list[tuple[int, Message, Signal]] = []
    for key, name in subject.plotted:
        message = picture.messages.get(key)
        signal = message.signal(name) if message else None
        if message is None or signal is None:
            continue
        before = chosen[key].signals if key in chosen else ()
        chosen[key] = Chosen(message, (*before, signal))
        series.append((key, message, signal))
    if kind == "values":
        from keel.draw.fields import draw_values
        from keel.measure.courses import Courses

        courses = Courses()
        drawn = []
        for key, message, signal in series:
            envelope = courses.envelope(matches, key, message, signal, picture.lens, DRAWN_COLUMNS)
            drawn.append((f"{message.name}.{signal.name}", envelope))
        title = f"{picture.snapshot.manifest.name}: values"
        draw_values(path, title, drawn, picture.whole.start, subject.cursors)
        return
    from keel.ask.fetch import frames_at

    writer = ValuesWriter(path) if kind == "values parquet" else None
    text = None if writer is not None else path.open("w", encoding="utf-8", newline="")
    try:
        if text is not None:
            text.write(csv_text(None, True))
        for at in range(0, len(matches), BLOCK):
            values = values_of(frames_at(matches, at, at + BLOCK), chosen, picture.snapshot.manifest.bus_names)
            if writer is not None:
                writer.write(values)
            elif text is not None:
                text.write(csv_text(values, False))
    finally:
        (writer or text).close()  # type: ignore[union-attr]


def _save_report(kind: str, path: Path, subject: Subject) -> None:
    import json

    from keel.compare.report import as_html, as_json
    from keel.draw.comparison_charts import drawings_of

    assert subject.found is not None
    if kind == "report":
        path.write_text(as_html(subject.found, drawings_of(subject.found)), encoding="utf-8")
    else:
        path.write_text(json.dumps(as_json(subject.found), indent=1) + "\n", encoding="utf-8")


def _save_payloads(kind: str, path: Path, picture: Picture, pick: int) -> None:
    from keel.app.desk.frame_pages import all_matches
    from keel.draw.fields import LOOM_ROWS, draw_loom, draw_ribbon
    from keel.errors import InputError
    from keel.hunt.columns import flip_shares, gather
    from keel.model.span import Span

    column = gather(all_matches(picture), pick).get(pick)
    if column is None or not len(column.times) or not column.payloads.shape[1]:
        raise InputError(str(path), "the identifier in hand has no payload here", "another identifier, or lens")
    message = picture.messages.get(pick)
    title = f"{picture.snapshot.manifest.name}: {picture.name(pick)} {key_words(pick)}"
    payload = column.payloads[-1].tobytes()
    if kind == "ribbon":
        parts = [(s.name, s.field, s.role) for s in message.present(payload)] if message else []
        draw_ribbon(path, f"{title}, its last payload", payload, parts)
        return
    parts = [(s.name, s.field, s.role) for s in message.signals if s.field.last_byte < len(payload)] if message else []
    edges = Span(int(column.times[0]), int(column.times[-1]) + 1).edges(LOOM_ROWS)
    draw_loom(path, f"{title}: bit loom", flip_shares(column, edges), edges, picture.whole.start, parts)
