"""``keel margins``: how close to failure the lines of a recording are."""

from __future__ import annotations

import json as json_module
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, read
from keel.cli.progress import Progress

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.probe.beside import Beside
    from keel.probe.margins import Margin
    from keel.store.recording import Snapshot


@app.command(epilog="Examples:  keel margins probe.keel   keel margins probe.keel --ask 'id:220 at:1s..2s' --json")
def margins(
    recording: Rec,
    ask: Ask = "",
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
    csv: Annotated[bool, typer.Option("--csv", help="CSV with a header line.")] = False,
    beside: Annotated[
        str,
        typer.Option(metavar="[REC:]BUS", help="A second line, as before and after: frames, delay, margins of both."),
    ] = "",
) -> None:
    """Measure bits, edges, levels and ringing of lines that were probed, nearest to failure first."""
    if json and csv:
        raise typer.BadParameter("--json and --csv cannot both be")
    snapshot, scene, matches = read(recording, ask)
    from keel.ask.fetch import frames_at
    from keel.errors import InputError
    from keel.formats.row_table import rows_text
    from keel.model.safe_text import plain
    from keel.probe.margins import margins_of

    if not snapshot.manifest.lines:
        raise InputError(snapshot.manifest.name, "no line was read from a waveform in it", "one that keel decode made")
    bar = Progress("measuring")
    if beside:
        _beside(snapshot, matches, beside, bar, json, csv)
        return
    try:
        found = margins_of(snapshot, frames_at(matches, 0, len(matches)), bar.at)
    finally:
        bar.end()
    for sentence in found.said:
        say(f"keel: {plain(sentence)}")
    if json:
        print(json_module.dumps([row.to_json() for row in found.rows], indent=1))
    elif csv:
        sys.stdout.write(rows_text([row.to_json() for row in found.rows]))
    else:
        _table(found.rows, scene.zero)


def _beside(snapshot: Snapshot, matches: Matches, other: str, bar: Progress, json: bool, csv: bool) -> None:
    import numpy as np

    from keel.ask.fetch import frames_at
    from keel.cli.arguments import opened
    from keel.formats.row_table import rows_text
    from keel.model.span import Span
    from keel.probe.aligning import frames_on
    from keel.probe.beside import WITHIN_NS, Side, side_by_side

    frames = frames_at(matches, 0, len(matches))
    of = _line(snapshot, "", np.unique(frames.bus).tolist())
    mine = frames.take(np.flatnonzero(frames.bus == of))
    place, colon, name = other.rpartition(":")
    there = opened(Path(place)) if colon else snapshot
    span = None if colon else Span(int(mine.time[0]) - WITHIN_NS, int(mine.time[-1]) + WITHIN_NS)
    second = frames_on(there, _line(there, name, []), span)
    try:
        found = side_by_side(Side(snapshot, mine), Side(there, second), bar.at)
    finally:
        bar.end()
    if json:
        print(json_module.dumps(found.to_json(), indent=1))
    elif csv:
        sys.stdout.write(rows_text(found.to_rows()))
    else:
        _table_of_both(found)


def _line(snapshot: Snapshot, name: str, among: list[int]) -> int:
    """The bus of the line that is named, or of the only one that is among some."""
    from keel.errors import InputError

    names = {line.bus: snapshot.manifest.buses[line.bus].name for line in snapshot.manifest.lines}
    wanted = [bus for bus, one in names.items() if (one == name if name else bus in among)]
    if len(wanted) != 1:
        why = f"no line is called {name}" if name else f"frames of {len(wanted)} lines meet the ask"
        expected = f"{'' if name else 'bus:NAME, '}one of {', '.join(names.values())}"
        raise InputError("--beside" if name else "--ask", why, expected)
    return wanted[0]


def _table_of_both(found: Beside) -> None:
    from keel.model.safe_text import plain

    for sentence in found.words():
        print(plain(sentence))
    print(f"\n{'what':32}{'before':>9}{'after':>9}{'change':>9}{'mean before':>14}{'mean after':>14}  unit")
    for row in found.rows:
        change = "—" if row.change is None else f"{row.change:+.0%}"
        shares = "".join(f"{'—' if m is None or m.margin is None else f'{m.margin:.0%}':>9}" for m in (row.a, row.b))
        means = "".join(f"{'—' if m is None else f'{m.mean:.4g}':>14}" for m in (row.a, row.b))
        print(f"{plain(row.what)[:31]:32}{shares}{change:>9}{means}  {row.unit}")


def _table(rows: tuple[Margin, ...], zero: int) -> None:
    from keel.model.safe_text import plain

    titles = "".join(f"{title:>12}" for title in ("min", "mean", "max", "nominal"))
    print(f"{'bus':10}{'what':32}{'margin':>8}{titles}  {'unit':5}{'worst at s':>16}")
    for row in rows:
        margin = "—" if row.margin is None else f"{row.margin:.0%}"
        nominal = "—" if row.nominal is None else f"{row.nominal:.4g}"
        numbers = "".join(f"{one:>12.4g}" for one in (row.least, row.mean, row.most))
        print(
            f"{plain(row.bus)[:9]:10}{plain(row.what)[:31]:32}{margin:>8}{numbers}{nominal:>12}  {row.unit:5}"
            f"{(row.at - zero) / 1e9:>16.9f}{'  ≈' if row.limited else ''}"
        )
    if any(row.limited for row in rows):
        print("≈ no more than the interval of the samples makes of it")
