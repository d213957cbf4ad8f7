"""``keel margins``: how close to failure the lines of a recording are."""

from __future__ import annotations

import csv as csv_module
import json as json_module
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, read
from keel.cli.progress import Progress

if TYPE_CHECKING:
    from keel.probe.margins import Margin


@app.command(epilog="Examples:  keel margins probe.keel   keel margins probe.keel --ask 'id:220 at:1s..2s' --json")
def margins(
    recording: Rec,
    ask: Ask = "",
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
    csv: Annotated[bool, typer.Option("--csv", help="CSV with a header line.")] = False,
) -> None:
    """Measure bits, edges, levels and ringing of lines that were probed, nearest to failure first."""
    if json and csv:
        raise typer.BadParameter("--json and --csv cannot both be")
    snapshot, scene, matches = read(recording, ask)
    from keel.ask.fetch import frames_at
    from keel.errors import InputError
    from keel.model.safe_text import plain
    from keel.probe.margins import margins_of

    if not snapshot.manifest.lines:
        raise InputError(snapshot.manifest.name, "no line was read from a waveform in it", "one that keel decode made")
    bar = Progress("measuring")
    try:
        found = margins_of(snapshot, frames_at(matches, 0, len(matches)), bar.at)
    finally:
        bar.end()
    for sentence in found.said:
        say(f"keel: {plain(sentence)}")
    if json:
        print(json_module.dumps([row.to_json() for row in found.rows], indent=1))
    elif csv:
        _csv(found.rows)
    else:
        _table(found.rows, scene.zero)


def _csv(rows: tuple[Margin, ...]) -> None:
    from keel.model.safe_text import csv_cell

    out = csv_module.writer(sys.stdout, lineterminator="\n")
    out.writerow(["bus", "what", "unit", "min", "mean", "max", "nominal", "margin", "at_ns"])
    for row in rows:
        cells = row.to_json().values()
        out.writerow(["" if one is None else csv_cell(one) if isinstance(one, str) else one for one in cells])


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
            f"{(row.at - zero) / 1e9:>16.9f}"
        )
