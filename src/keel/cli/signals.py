"""``keel signals``: a line per value."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, read
from keel.cli.progress import Progress

if TYPE_CHECKING:
    from keel.formats.signal_rows import Chosen
    from keel.model.globs import SignalGlob
    from keel.signals.book import Book
    from keel.signals.dictionary import Message, Signal, TextField

BLOCK = 16_384


@app.command(
    epilog="Examples:  keel signals tern.keel --dict harbour.dbc --signal 'Pack*.voltage' --csv"
    "   keel signals tern.keel --signal angle,lock --ask 'at:10s..20s' --json"
)
def signals(
    recording: Rec,
    dictionary: Annotated[
        list[str] | None,
        typer.Option(
            "--dict",
            metavar="FILE",
            help="A dictionary (.dbc or .toml), or BUS=FILE for one bus; may be repeated, the first has precedence. "
            "Left out: those the recording uses.",
        ),
    ] = None,
    signal: Annotated[
        list[str] | None,
        typer.Option("--signal", metavar="NAMES", help="Only these: 'Message.signal' or 'signal', * and ? allowed."),
    ] = None,
    ask: Ask = "",
    json: Annotated[bool, typer.Option("--json", help="JSON lines.")] = False,
    csv: Annotated[bool, typer.Option("--csv", help="CSV with a header line.")] = False,
    parquet: Annotated[Path | None, typer.Option("--parquet", metavar="FILE", help="Write a Parquet file.")] = None,
) -> None:
    """Print the values that frames carry, in order of arrival."""
    if json + csv + (parquet is not None) > 1:
        raise typer.BadParameter("only one of --json, --csv and --parquet can be")
    snapshot, scene, matches = read(recording, ask, dictionaries=tuple(dictionary or ()))
    from keel.ask.fetch import frames_at
    from keel.ask.names import keys_of
    from keel.formats.signal_rows import ValuesWriter, csv_text, json_lines, text_lines, values_of

    patterns = [p.strip() for given in signal or ["*"] for p in given.split(",") if p.strip()]
    chosen = choose(scene.book, keys_of(snapshot), patterns)
    buses = snapshot.manifest.bus_names
    wide = max((len(f"{c.message.name}.{s.name}") for c in chosen.values() for s in c.signals), default=10)
    writer = ValuesWriter(parquet) if parquet else None
    progress = Progress("values")
    count = len(matches)
    if csv:
        sys.stdout.write(csv_text(None, True))
    for at in range(0, count, BLOCK):
        values = values_of(frames_at(matches, at, min(at + BLOCK, count)), chosen, buses)
        if writer is not None:
            writer.write(values)
        elif csv:
            sys.stdout.write(csv_text(values, False))
        else:
            lines = json_lines(values) if json else text_lines(values, scene.zero, wide)
            sys.stdout.writelines(line + "\n" for line in lines)
        progress.at(at, count)
    progress.end()
    if writer is not None:
        writer.close()
    sys.stdout.flush()
    if not chosen:
        say("keel: no frame of the recording is of a message that the dictionaries know")


def choose(book: Book, keys: list[int], patterns: list[str]) -> dict[int, Chosen]:
    """What is wanted of each identifier.

    Raises:
        InputError: a pattern names no signal of the dictionaries.
    """
    from keel.ask.nodes import Scene
    from keel.ask.signals import check_signal
    from keel.errors import AskError, InputError
    from keel.formats.signal_rows import Chosen
    from keel.model.globs import SignalGlob

    chosen = {}
    known = book.messages(keys)
    if patterns != ["*"]:
        # What headers say is printed where it is asked for.
        known = {key: message for key in keys if (message := book.spoken(key)) is not None}
    fields_known: list[tuple[Message, TextField | Signal]] = []
    for message in known.values():
        fields_known += [(message, field) for field in message.text_fields]
        fields_known += [(message, said) for said in message.signals if said.source != "payload"]
    for pattern in map(SignalGlob.read, patterns):
        if pattern.signal.text != "*" and not any(_is_meant(*one, pattern) for one in fields_known):
            try:
                check_signal(pattern, 0, Scene(book=book), None)
            except AskError as error:
                raise InputError("--signal", error.what, " or ".join(error.expected)) from None
    for key, message in known.items():
        globs = [SignalGlob.read(pattern) for pattern in patterns]
        names = {s.name for glob in globs for s in message.signals if glob.fits(message.name, s.name)}
        fields = tuple(t for t in message.text_fields if any(_is_meant(message, t, glob) for glob in globs))
        if names or fields:
            chosen[key] = Chosen(message, tuple(s for s in message.signals if s.name in names), fields)
    return chosen


def _is_meant(message: Message, field: TextField | Signal, pattern: SignalGlob) -> bool:
    return pattern.fits(message.name, field.name)
