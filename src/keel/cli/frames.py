"""``keel frames``: a line per frame."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from keel.cli import app
from keel.cli.arguments import Ask, Rec, read

BLOCK = 16_384


@app.command(
    epilog="Examples:  keel frames tern.keel --ask 'id:220 gap>60ms'   keel frames tern.keel --ask fault --json | head"
)
def frames(
    recording: Rec,
    ask: Ask = "",
    limit: Annotated[int | None, typer.Option("--limit", min=0, help="The first so many only.")] = None,
    json: Annotated[bool, typer.Option("--json", help="JSON lines.")] = False,
    fields: Annotated[
        bool, typer.Option("--fields", help="With --json: the fields of frames that were decoded from a waveform.")
    ] = False,
    csv: Annotated[bool, typer.Option("--csv", help="CSV with a header line.")] = False,
) -> None:
    """Print frames, in order of arrival."""
    if json and csv:
        raise typer.BadParameter("--json and --csv cannot both be")
    if fields and not json:
        raise typer.BadParameter("--fields goes with --json")
    snapshot, scene, matches = read(recording, ask)
    from keel.ask.fetch import frames_at
    from keel.ask.names import names_of
    from keel.formats.frame_lines import csv_text, json_lines, text_lines

    if fields:
        from keel.probe.fields import Explainer

        explained = Explainer(snapshot).rows
    names = names_of(snapshot)
    buses, bus_names = snapshot.manifest.buses, snapshot.manifest.bus_names
    count = len(matches) if limit is None else min(limit, len(matches))
    if csv and not count:
        from keel.model.frames import empty_batch

        sys.stdout.write(csv_text(empty_batch(), buses, 0, names, [], True))
    for at in range(0, count, BLOCK):
        numbers = matches.numbers(at, min(at + BLOCK, count))
        batch = frames_at(matches, at, min(at + BLOCK, count))
        if csv:
            sys.stdout.write(csv_text(batch, buses, scene.zero, names, (numbers + 1).tolist(), at == 0))
            continue
        if json:
            lines = json_lines(batch, buses, numbers.tolist(), explained(batch) if fields else ())
        else:
            lines = text_lines(batch, bus_names, scene.zero, names)
        sys.stdout.write("\n".join(lines) + "\n")
    sys.stdout.flush()
