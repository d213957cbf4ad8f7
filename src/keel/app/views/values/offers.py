"""What can be exported of Values: the plots, and the values behind them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk.frame_pages import all_matches
from keel.app.dialogs.offers import BLOCK, drawn, stem_of
from keel.app.frame.helm import Here, Offer
from keel.app.views.values.choices import Name
from keel.draw.drawings import drawing

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.formats.signal_rows import Chosen
    from keel.signals.dictionary import Message
    from keel.signals.signal import Signal


def offers_of(here: Here, plotted: Sequence[Name], cursors: Sequence[int]) -> list[Offer]:
    """Drawing and values of the signals that are drawn."""
    if not plotted:
        return []
    picture, count = here.picture, len(plotted)
    stem, of = stem_of(picture), f"{count} signal{'s' if count != 1 else ''}"
    return [
        drawn(drawing("values"), picture, of, signals=tuple(_signals(picture, plotted)), cursors=tuple(cursors)),
        Offer(f"the values of {of}, as CSV", f"{stem}-values.csv", lambda path: _save_csv(path, picture, plotted)),
        Offer(
            f"the values of {of}, as Parquet",
            f"{stem}-values.parquet",
            lambda path: _save_parquet(path, picture, plotted),
        ),
    ]


def _signals(picture: Picture, plotted: Sequence[Name]) -> list[tuple[int, Message, Signal]]:
    found = []
    for key, name in plotted:
        message = picture.snapshot.book.spoken(key)
        signal = message.signal(name) if message is not None else None
        if message is not None and signal is not None:
            found.append((key, message, signal))
    return found


def _chosen(picture: Picture, plotted: Sequence[Name]) -> dict[int, Chosen]:
    from keel.formats.signal_rows import Chosen

    chosen: dict[int, Chosen] = {}
    for key, message, signal in _signals(picture, plotted):
        chosen[key] = Chosen(message, (*(chosen[key].signals if key in chosen else ()), signal))
    return chosen


def _save_csv(path: Path, picture: Picture, plotted: Sequence[Name]) -> list[str]:
    from keel.ask.fetch import frames_at
    from keel.formats.signal_rows import csv_text, values_of

    matches, chosen = all_matches(picture), _chosen(picture, plotted)
    with path.open("w", encoding="utf-8", newline="") as file:
        file.write(csv_text(None, True))
        for at in range(0, len(matches), BLOCK):
            values = values_of(frames_at(matches, at, at + BLOCK), chosen, picture.snapshot.manifest.bus_names)
            file.write(csv_text(values, False))
    return []


def _save_parquet(path: Path, picture: Picture, plotted: Sequence[Name]) -> list[str]:
    from keel.ask.fetch import frames_at
    from keel.formats.signal_rows import ValuesWriter, values_of

    matches, chosen = all_matches(picture), _chosen(picture, plotted)
    writer = ValuesWriter(path)
    try:
        for at in range(0, len(matches), BLOCK):
            writer.write(values_of(frames_at(matches, at, at + BLOCK), chosen, picture.snapshot.manifest.bus_names))
    finally:
        writer.close()
    return []
