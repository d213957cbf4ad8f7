"""``keel draw``: drawings of a recording as SVG or PDF."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, read, time_ns
from keel.draw.drawings import DRAWINGS, Drawing, Found, Material, drawing
from keel.errors import InputError

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.model.span import Span
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
    "   keel draw line probe.keel --at 12.5ms --span 300us -o line.svg"
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
    at: Annotated[
        str, typer.Option("--at", metavar="T", help="From when on, as 12.5s: elapsed, or with a minus.")
    ] = "",
    length: Annotated[str, typer.Option("--span", metavar="S", help="How long, as 3ms.")] = "",
    channel: Annotated[
        list[str] | None, typer.Option("--channel", metavar="NAME", help="Of line: the channels to draw; else all.")
    ] = None,
) -> None:
    """Draw load, cycle times, values of signals, the bit loom or the ribbon of an identifier, waveforms, or a candidate
    field."""
    from keel.draw.sheet import check_ending

    check_ending(output)
    snapshot, _, matches = read(recording, ask, dictionaries=tuple(dictionary or ()))
    signals = _signals(snapshot, signal) if what.needs == "signals" else ()
    found = _found(snapshot, matches, marks, readings, series, rank) if what.needs == "a candidate" else None
    channels = _channels(snapshot, channel or []) if what.needs == "channels" else ()
    span = _span(snapshot, at, length)
    what.draw(Material(snapshot, matches, span, ask, signals=signals, found=found, channels=channels), output)
    say(f"{output}: written")


def _span(snapshot: Snapshot, at: str, length: str) -> Span:
    """What is to be drawn: all, or from a moment on, so long."""
    from keel.model.span import Span

    whole = snapshot.span
    found = [time_ns(option, text) if text else None for option, text in (("--at", at), ("--span", length))]
    start = whole.start if found[0] is None else snapshot.zero + found[0]
    end = whole.end if found[1] is None else start + found[1]
    if not (start < end and start < whole.end and end > whole.start):
        raise InputError("--at", "there is nothing at that time", f"within {words_of(whole, snapshot.zero)}")
    return Span(max(start, whole.start), min(end, whole.end))


def words_of(span: Span, zero: int) -> str:
    """From when to when, in seconds."""
    return f"{(span.start - zero) / 1e9:g} s to {(span.end - zero) / 1e9:g} s"


def _channels(snapshot: Snapshot, names: list[str]) -> tuple[int, ...]:
    from keel.store.waveform_entries import channels

    known = channels(snapshot.manifest.waveforms)
    missing = [name for name in names if not any(name in (one.name, *one.others) for one in known)]
    if missing:
        raise InputError("--channel", f"no channel is called {missing[0]}", ", ".join(one.name for one in known))
    return tuple(one.number for one in known if any(name in (one.name, *one.others) for name in names))


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
