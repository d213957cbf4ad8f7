"""``keel import``: foreign captures and logs into a recording."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from keel.cli import app, say
from keel.cli.progress import Progress


@app.command(
    name="import",
    epilog="Formats are told by content: bracketed CAN text logs, classic pcap of link type 227.   "
    "Example:  keel import morning.log noon.log -o harbour.keel",
)
def import_command(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Captures or logs, read in this order.")],
    output: Annotated[Path, typer.Option("-o", "--output", metavar="REC", help="The recording to make.")],
    bit_rate: Annotated[int, typer.Option(min=1000, help="Bit rate of the buses, bit/s.")] = 500_000,
    fast_bit_rate: Annotated[int, typer.Option(min=1000, help="CAN FD data bit rate, bit/s.")] = 2_000_000,
) -> None:
    """Read captures and logs into a new recording."""
    import_into(files, output, (bit_rate, fast_bit_rate))


def import_into(files: list[Path], output: Path, rates: tuple[int, int] = (500_000, 2_000_000)) -> Path:
    """Import and say what was read and what was not; returns the recording."""
    from keel.formats.importing import import_files
    from keel.model.plain import plain
    from keel.store.library import SUFFIX

    if output.suffix != SUFFIX:
        output = output.with_name(output.name + SUFFIX)
    bar = Progress("importing")
    total = sum(path.stat().st_size for path in files if path.is_file()) or 1
    before: dict[Path, int] = {}

    def progress(path: Path, done: int, _: int) -> None:
        before[path] = done
        bar.at(sum(before.values()), total)

    try:
        done = import_files(files, output, progress, rates)
    finally:
        bar.end()
    for path, name, why, account in done.accounts:
        say(f"{plain(str(path))}: {name} ({why}): {account.frames} frames")
        for sentence in account.sentences():
            say(f"  {sentence}")
    say(f"{plain(str(output))}: {done.frames} frames")
    return output
