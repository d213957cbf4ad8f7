"""What can be exported of Line: the drawing of the lens, and the frames with when each began and ended."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk.frame_pages import all_matches
from keel.app.dialogs.offers import BLOCK, drawn, stem_of
from keel.app.frame.helm import Here, Offer
from keel.app.views.line.measures import Measures
from keel.draw.drawings import drawing
from keel.model.span import Span
from keel.model.waveform import Logic

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.store.waveform_entries import WaveformEntry


def offers_of(
    here: Here,
    shown: Sequence[WaveformEntry],
    entries: Sequence[WaveformEntry],
    cursors: Sequence[int],
    measures: Measures | None = None,
) -> list[Offer]:
    """Drawing, frames, messages by time and voltage, the waveforms themselves, and what was measured.

    Args:
        here: The screen.
        shown: The channels that are drawn.
        entries: Those that might be: all that are not hidden.
        cursors: In ns; the waveforms between two of them are saved, else those in the lens.
        measures: The margins, if they were measured.
    """
    picture = here.picture
    if not shown:
        return []
    of = f"{len(shown)} channel{'s' if len(shown) != 1 else ''}"
    channels = tuple(entry.number for entry in shown)
    found = [drawn(drawing("line"), picture, of, channels=channels, cursors=tuple(cursors))]
    if picture.snapshot.manifest.lines:
        name = f"{stem_of(picture)}-spans.csv"
        found.append(Offer("frames with begin and end, as CSV", name, lambda path: _save_spans(path, picture)))
        name = f"{stem_of(picture)}-messages.csv"
        words = "messages by time and voltage, as CSV"
        found.append(Offer(words, name, lambda path: _save_messages(path, picture, True)))
        name = f"{stem_of(picture)}-identifiers.csv"
        words = "identifiers by time and voltage, as CSV"
        found.append(Offer(words, name, lambda path: _save_messages(path, picture, False)))
    found += _cuts(here, entries, cursors)
    if measures is not None and measures.share == 1:
        name = f"{stem_of(picture)}-margins.csv"
        found.append(Offer("margins, as CSV", name, lambda path: _save_margins(path, measures)))
    return found


def _cuts(here: Here, entries: Sequence[WaveformEntry], cursors: Sequence[int]) -> list[Offer]:
    """The waveforms between the cursors, or in the lens: as text, and their levels as a dump."""
    picture = here.picture
    span = Span(min(cursors), max(cursors)) if len(cursors) == 2 else here.lens
    where = "between the cursors" if len(cursors) == 2 else "in the lens"
    stem = f"{stem_of(picture)}-cut"
    return [
        Offer(f"waveforms {where}, as CSV", f"{stem}.csv", lambda path: _save_text(path, picture, entries, span)),
        Offer(f"levels {where}, as VCD", f"{stem}.vcd", lambda path: _save_dump(path, picture, entries, span)),
    ]


def _save_text(path: Path, picture: Picture, entries: Sequence[WaveformEntry], span: Span) -> list[str]:
    from keel.formats.wave_out import write_text
    from keel.model.waveform import Channel
    from keel.probe.stored import wave_of

    snapshot = picture.snapshot
    channels = [Channel(entry.name, entry.number, wave_of(snapshot, entry)) for entry in entries]
    write_text(path, channels, span)
    return []


def _save_dump(path: Path, picture: Picture, entries: Sequence[WaveformEntry], span: Span) -> list[str]:
    from keel.formats.wave_out import write_vcd
    from keel.probe.looking import levels_of
    from keel.probe.stored import wave_of

    snapshot = picture.snapshot
    found, left_out = [], []
    for entry in entries:
        wave = levels_of(snapshot, entry) or wave_of(snapshot, entry)
        if isinstance(wave, Logic):
            found.append((entry.name, wave))
        else:
            left_out.append(entry.name)
    write_vcd(path, found, span)
    return [f"{name}: volts of which no levels were read" for name in left_out]


def _save_messages(path: Path, picture: Picture, is_each: bool) -> list[str]:
    from keel.ask.fetch import frames_at
    from keel.formats.row_table import rows_text
    from keel.probe.spans import by_identifier, each, spans_of

    matches, snapshot = all_matches(picture), picture.snapshot
    frames = frames_at(matches, 0, len(matches))
    spans = spans_of(snapshot, frames)
    rows = (
        each(snapshot, frames, spans, matches.numbers(0, len(matches)))
        if is_each
        else by_identifier(snapshot, frames, spans)
    )
    path.write_text(rows_text(rows), encoding="utf-8", newline="")
    return []


def _save_margins(path: Path, measures: Measures) -> list[str]:
    from keel.formats.row_table import rows_text

    alone = [row.to_json() for row in measures.alone.rows] if measures.alone is not None else []
    rows = measures.both.to_rows() if measures.both is not None else alone
    path.write_text(rows_text(rows), encoding="utf-8", newline="")
    return []


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
