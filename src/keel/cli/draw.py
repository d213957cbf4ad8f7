"""``keel draw``: drawings of a recording as SVG or PDF."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from keel.cli import app, say
from keel.cli.reading import Ask, Rec, read

MOST_HISTOGRAMS = 12


class Drawing(StrEnum):
    """What can be drawn."""

    LOAD = "load"
    CYCLES = "cycles"


@app.command(
    epilog="Examples:  keel draw load tern.keel -o load.svg   keel draw cycles tern.keel --ask id:0A4 -o helm.pdf"
)
def draw(
    what: Annotated[Drawing, typer.Argument(help="load over time, or histograms of cycle times.")],
    recording: Rec,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE", help="Ending in .svg or .pdf.")],
    ask: Ask = "",
) -> None:
    """Draw the load of each bus over time, or the cycle times of the identifiers that the ask leaves."""
    from keel.ask.scene import names_of
    from keel.draw.charts import draw_cycles, draw_load
    from keel.draw.sheet import check_ending
    from keel.measure.census import census_of
    from keel.measure.cycles import describe_tally
    from keel.measure.load import Loads, cells_for
    from keel.model.identity import key_words

    check_ending(output)
    snapshot, scene, matches = read(recording, ask)
    manifest = snapshot.manifest
    if what == Drawing.LOAD:
        series = Loads().series(snapshot, snapshot.span, cells_for(snapshot.span, 300))
        draw_load(output, f"{manifest.name}: load, exact bits", series, manifest.buses, manifest.marks, scene.start)
    else:
        names = names_of(snapshot)
        times = sorted(census_of(matches).items(), key=lambda item: -item[1].frames)
        cycles = [
            (
                f"{names.get(key, '')} {key_words(key)}".strip(),
                key >> 56,
                describe_tally(t, snapshot.span.end, 40, manifest.nominal.get(key, 0)),
            )
            for key, t in times[:MOST_HISTOGRAMS]
        ]
        left = len(times) - len(cycles)
        title = f"{manifest.name}: cycle times" + (f", the {len(cycles)} busiest of {len(times)}" if left else "")
        draw_cycles(output, title, cycles)
    say(f"{output}: written")
