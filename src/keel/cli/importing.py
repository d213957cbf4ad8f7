"""``keel import``: foreign captures and logs into a recording."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import FAILED, app, say
from keel.cli.progress import Progress

if TYPE_CHECKING:
    from keel.formats.importing import Imported
    from keel.formats.layout import Layout


@app.command(
    name="import",
    epilog="Formats are told by content: pcapng and pcap (link type 227), bracketed text logs, delimited text, "
    "Arrow and Parquet tables.   Examples:  keel import morning.log noon.pcapng -o harbour.keel   "
    "keel import table.csv --preview   "
    "keel import table.csv -o t.keel --layout 'unit=ms columns=time,bus,id,-,payload'",
)
def import_command(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Captures or logs, read in this order.")],
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="REC", help="The recording to make.")] = None,
    bit_rate: Annotated[int, typer.Option(min=1000, help="Bit rate of the buses, bit/s.")] = 500_000,
    fast_bit_rate: Annotated[int, typer.Option(min=1000, help="CAN FD data bit rate, bit/s.")] = 2_000_000,
    layout: Annotated[str, typer.Option(metavar="WORDS", help="How delimited text lies; corrects the guess.")] = "",
    preview: Annotated[bool, typer.Option("--preview", help="Show the first rows as they would be read.")] = False,
) -> None:
    """Read captures and logs into a new recording."""
    from keel.formats.layout import remember

    found = _layout(files[0], layout) if layout else None
    if preview:
        _preview(files, found)
        return
    if output is None:
        raise typer.BadParameter("-o REC is needed, unless you only want a --preview")
    done = import_into(files, output, (bit_rate, fast_bit_rate), found)
    if found is not None:
        remember(_head(files[0]), found)
    for path, name, _, account in done.accounts:
        if name == "delimited text" and account.skipped_total > account.frames:
            # It is kept, but the columns were most likely misread, and whoever imports by a script should know.
            say(f"keel: {path}: more rows were skipped ({account.skipped_total}) than read: look at --preview")
            raise typer.Exit(FAILED)


def _head(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(1 << 16)


def _layout(path: Path, words: str) -> Layout:
    """The layout that the words say; what they leave out is guessed."""
    from keel.formats.layout import Layout, guess, likely_separator

    head = _head(path)
    return (guess(head) or Layout(likely_separator(head), ("time", "id", "payload"))).corrected(words)


def _preview(files: list[Path], layout: Layout | None) -> None:
    from keel.errors import InputError
    from keel.formats.delimited import layout_of
    from keel.formats.frame_lines import text_lines
    from keel.formats.preview import first_frames
    from keel.formats.registry import recognise
    from keel.model.safe_text import plain

    for path in files:
        if layout is None:
            known, why = recognise(path)
            print(f"{plain(str(path))}: {known.name} ({why})")
            found = layout_of(path) if known.name == "delimited text" else None
        else:
            print(f"{plain(str(path))}: delimited text (by the layout given)")
            found = layout
        if found is not None:
            print(f"layout: {found.words()}")
            if found.problem():
                raise InputError(str(path), found.problem(), "a layout with time and identifier")
        batch, account = first_frames(path, found)
        for line in text_lines(batch, account.bus_names, int(batch.time[0]) if len(batch) else 0, {}):
            print(line)
        for sentence in account.sentences():
            print(f"  {sentence}")


def import_into(
    files: list[Path], output: Path, rates: tuple[int, int] = (500_000, 2_000_000), layout: Layout | None = None
) -> Imported:
    """Import and say what was read and what was not."""
    from keel.formats.importing import import_files
    from keel.model.safe_text import plain
    from keel.store.library import with_suffix

    output = with_suffix(output)
    bar = Progress("importing")
    total = sum(path.stat().st_size for path in files if path.is_file()) or 1
    before: dict[Path, int] = {}

    def progress(path: Path, done: int, _: int) -> None:
        before[path] = done
        bar.at(sum(before.values()), total)

    try:
        done = import_files(files, output, progress, rates, layout)
    finally:
        bar.end()
    for path, name, why, account in done.accounts:
        say(f"{plain(str(path))}: {name} ({why}): {account.frames} frames")
        for sentence in account.sentences():
            say(f"  {sentence}")
    say(f"{plain(str(output))}: {done.frames} frames")
    return done
