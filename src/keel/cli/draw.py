"""``keel draw``: drawings of a recording as SVG or PDF."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, read
from keel.draw.drawings import DRAWINGS, Drawing, Found, Material, drawing
from keel.errors import InputError

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.signals.dictionary import Message
    from keel.signals.signal import Signal
    from keel.store.recording import Snapshot

NAMES = "|".join(made.name for made in DRAWINGS)


def _named(name: str) -> Drawing:
    try:
        return drawing(name)
    except KeyError:
        raise typer.BadParameter(f"there is no drawing “{name}”; expected {NAMES}") from None


def _evidence(option: str) -> typer.models.OptionInfo:
    found: typer.models.OptionInfo = typer.Option(option, metavar="FILE", help="Evidence for a candidate.")
    return found


@app.command(
    epilog="Examples:  keel draw load tern.keel -o load.svg   keel draw values tern.keel --signal '*.voltage' -o v.pdf"
    "   keel draw loom tern.keel --ask id:220 -o loom.svg   keel draw candidate tern.keel --marks m.csv -o found.svg"
)
def draw(
    what: Annotated[Drawing, typer.Argument(parser=_named, metavar=NAMES, help="What to draw.")],
    recording: Rec,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE", help="Ending in .svg or .pdf.")],
    ask: Ask = "",
    signal: Annotated[str, typer.Option("--signal", metavar="NAMES", help="The signals to draw, at most 8.")] = "*",
    dictionary: Annotated[
        list[str] | None, typer.Option("--dict", metavar="FILE", help="A dictionary, instead of the recording's.")
    ] = None,
    marks: Annotated[Path | None, _evidence("--marks")] = None,
    readings: Annotated[Path | None, _evidence("--readings")] = None,
    series: Annotated[Path | None, _evidence("--series")] = None,
    rank: Annotated[int, typer.Option("--rank", min=1, help="Which candidate.")] = 1,
) -> None:
    """Draw load, cycle times, values of signals, the bit loom or the ribbon of an identifier, or a candidate field."""
    from keel.draw.sheet import check_ending

    check_ending(output)
    snapshot, _, matches = read(recording, ask, dictionaries=tuple(dictionary or ()))
    signals = _signals(snapshot, signal) if what.needs == "signals" else ()
    found = _found(snapshot, matches, marks, readings, series, rank) if what.needs == "a candidate" else None
    what.draw(Material(snapshot, matches, snapshot.span, ask, signals=signals, found=found), output)
    say(f"{output}: written")


def _signals(snapshot: Snapshot, patterns: str) -> tuple[tuple[int, Message, Signal], ...]:
    from keel.ask.names import keys_of
    from keel.cli.signals import choose

    chosen = choose(snapshot.book, keys_of(snapshot), [p.strip() for p in patterns.split(",") if p.strip()])
    found = tuple((key, c.message, s) for key, c in chosen.items() for s in c.signals)
    if not found:
        raise InputError("--signal", "no signal that is known is in the recording", "a dictionary that knows it")
    return found


def _found(
    snapshot: Snapshot, matches: Matches, marks: Path | None, readings: Path | None, series: Path | None, rank: int
) -> Found:
    """The candidate of a rank."""
    from keel.cli.hunt import evidence_of
    from keel.hunt.columns import gather
    from keel.hunt.traffic import Traffic

    traffic = Traffic.of(gather(matches))
    given = evidence_of(snapshot, snapshot.zero, marks, readings, series)
    findings = given.follow(traffic)
    count = len(findings.candidates)
    if rank > count:
        raise InputError("--rank", f"there are {count} candidates: {findings.sentence}", "a candidate")
    return Found(findings.candidates[rank - 1], traffic, given.spans, given.points)
