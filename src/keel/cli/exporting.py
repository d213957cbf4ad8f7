"""``keel export``: frames out into the forms the trade exchanges."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, finite, read
from keel.cli.progress import Progress

BLOCK = 65_536


@app.command(
    epilog="The form is told by the ending: .pcapng, .log, .csv, .jsonl, .parquet.   Examples:  "
    "keel export tern faults.pcapng --ask fault   keel export tern minute.parquet --from 60 --to 120"
)
def export(
    recording: Rec,
    output: Annotated[Path, typer.Argument(metavar="FILE", help="The file to write.")],
    ask: Ask = "",
    form: Annotated[str | None, typer.Option("--as", metavar="FORM", help="pcapng, log, csv, json or parquet.")] = None,
    start: Annotated[
        float | None, typer.Option("--from", callback=finite, help="Only frames from this second on.")
    ] = None,
    end: Annotated[float | None, typer.Option("--to", callback=finite, help="Only frames before this second.")] = None,
) -> None:
    """Write the frames that meet an ask to a file that other programs read."""
    from keel.ask.fetch import frames_at
    from keel.ask.names import names_of
    from keel.formats.exporting import Setting, open_writer, writer_name

    name = writer_name(output, form)
    snapshot, scene, matches = read(recording, ask, start, end)
    manifest = snapshot.manifest
    comments = {comment.number: comment.text for comment in manifest.comments}
    setting = Setting(manifest.buses, scene.zero, names_of(snapshot), manifest.notes, comments)
    writer = open_writer(output, name, setting)
    progress = Progress("exporting")
    try:
        for at in range(0, len(matches), BLOCK):
            numbers = matches.numbers(at, at + BLOCK)
            writer.write(frames_at(matches, at, at + BLOCK), numbers)
            progress.at(at, len(matches))
    finally:
        writer.close()
        progress.end()
    say(f"{output}: {len(matches) - writer.losses.left_out} frames, as {name}")
    for sentence in writer.losses.sentences():
        say(f"  {sentence}")
