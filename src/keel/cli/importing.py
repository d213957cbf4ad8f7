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
    from keel.formats.reader import Format
    from keel.model.bus import Rates


@app.command(
    name="import",
    epilog="Formats are told by content: pcapng and pcap (CAN, BLE, USB), bracketed text logs, delimited text, "
    "Arrow and Parquet tables; text and bytes of serial lines are named with --as.   "
    "Examples:  keel import morning.log noon.pcapng -o harbour.keel   "
    "keel import table.csv --preview   "
    "keel import table.csv -o t.keel --layout 'unit=ms columns=time,bus,id,-,payload'",
)
def import_command(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Captures or logs, read in this order.")],
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="REC", help="The recording to make.")] = None,
    bit_rate: Annotated[
        list[str] | None,
        typer.Option(metavar="N|BUS=N", help="Bit rate in bit/s, of all buses or of one; left out: 500000 or more."),
    ] = None,
    fast_bit_rate: Annotated[
        list[str] | None, typer.Option(metavar="N|BUS=N", help="CAN FD data bit rate, likewise; left out: 2000000.")
    ] = None,
    layout: Annotated[str, typer.Option(metavar="WORDS", help="How delimited text lies; corrects the guess.")] = "",
    read_as: Annotated[
        str, typer.Option("--as", metavar="WORD", help="serial: text lines after their times; bytes: without times.")
    ] = "",
    rate: Annotated[
        int | None, typer.Option(metavar="N", min=1, help="Bit/s of --as bytes: it gives them times; left out: 9600.")
    ] = None,
    zero: Annotated[
        str,
        typer.Option(metavar="DATE", help="When times without a date begin, as 2026-05-01T09:30:00 (UTC)."),
    ] = "",
    preview: Annotated[bool, typer.Option("--preview", help="Show the first rows as they would be read.")] = False,
) -> None:
    """Read captures and logs into a new recording."""
    from keel.formats.layout import remember
    from keel.formats.registry import NAMED, format_named

    if read_as and read_as not in NAMED:
        raise typer.BadParameter(f"--as {read_as}: one of {', '.join(NAMED)} is expected")
    if rate is not None and read_as != "bytes":
        raise typer.BadParameter("--rate is for --as bytes; bit rates of buses are --bit-rate")
    if read_as and (layout or preview):
        raise typer.BadParameter("--as goes without --layout and --preview")
    found = _layout(files[0], layout) if layout else None
    if preview:
        _preview(files, found)
        return
    if output is None:
        raise typer.BadParameter("-o REC is needed, unless you only want a --preview")
    done = import_into(
        files,
        output,
        _rates(bit_rate or [], fast_bit_rate or []),
        found,
        format_named(read_as, rate) if read_as else None,
        _zero(zero),
    )
    if found is not None:
        remember(_head(files[0]), found)
    for path, name, _, account in done.accounts:
        if name == "delimited text" and account.skipped_total > account.frames:
            # It is kept, but the columns were most likely misread, and whoever imports by a script should know.
            say(f"keel: {path}: more rows were skipped ({account.skipped_total}) than read: look at --preview")
            raise typer.Exit(FAILED)


def _zero(text: str) -> int | None:
    """A date as ns since 1970; None if none is given."""
    from datetime import UTC, datetime

    from keel.errors import InputError
    from keel.model.units import FIRST_DATED_NS, NS_PER_S

    if not text:
        return None
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise InputError("--zero", f"“{text}” is no date", "a date and time as 2026-05-01T09:30:00") from None
    since = (found if found.tzinfo else found.replace(tzinfo=UTC)) - datetime(1970, 1, 1, tzinfo=UTC)
    zero = (since.days * 86_400 + since.seconds) * NS_PER_S + since.microseconds * 1000
    if zero < FIRST_DATED_NS:
        raise InputError("--zero", f"“{text}” lies before 1980", "a date and time as 2026-05-01T09:30:00")
    return zero


def _rates(slow: list[str], fast: list[str]) -> Rates:
    from keel.model.bus import Rates

    (slow_all, slow_of), (fast_all, fast_of) = _by_bus("--bit-rate", slow), _by_bus("--fast-bit-rate", fast)
    return Rates(slow_all, fast_all, slow_of, fast_of)


def _by_bus(option: str, words: list[str]) -> tuple[int | None, dict[str, int]]:
    """A rate for all buses, and rates of single ones."""
    from keel.errors import InputError
    from keel.model.bus import LEAST_RATE, MOST_RATE

    of_all, of_one = None, {}
    for word in words:
        name, _, number = word.rpartition("=")
        rate = int(number) if number.isascii() and number.isdecimal() and len(number) < 15 else 0
        if not LEAST_RATE <= rate <= MOST_RATE:
            raise InputError(option, f"“{word}” is no bit rate", "bit/s, as 250000, or of one bus, as can1=250000")
        if name:
            of_one[name] = rate
        else:
            of_all = rate
    return of_all, of_one


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
    files: list[Path],
    output: Path,
    rates: Rates | None = None,
    layout: Layout | None = None,
    read_as: Format | None = None,
    zero: int | None = None,
) -> Imported:
    """Import and say what was read and what was not."""
    from keel.formats.importing import import_files
    from keel.measure.rates import settle_rates
    from keel.model.bus import Rates
    from keel.model.safe_text import plain
    from keel.store.library import with_suffix
    from keel.store.manifest import load_manifest

    output = with_suffix(output)
    bar = Progress("importing")
    total = sum(path.stat().st_size for path in files if path.is_file()) or 1
    before: dict[Path, int] = {}

    def progress(path: Path, done: int, _: int) -> None:
        before[path] = done
        bar.at(sum(before.values()), total)

    try:
        rates = rates or Rates()
        done = import_files(files, output, progress, rates, layout, read_as, zero)
    finally:
        bar.end()
    for path, name, why, account in done.accounts:
        say(f"{plain(str(path))}: {name} ({why}): {account.frames} frames")
        for sentence in account.sentences():
            say(f"  {sentence}")
    buses = load_manifest(output).buses
    for sentence in settle_rates(output, rates.named(buses)):
        say(f"  {sentence}; keel bus says otherwise")
    for name in sorted({*rates.of, *rates.fast_of} - {bus.name for bus in buses}):
        say(f"  no bus is called {plain(name)}: its bit rate was not used")
    say(f"{plain(str(output))}: {done.frames} frames")
    return done
