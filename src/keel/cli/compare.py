"""``keel compare``: what is different between two recordings, or two spans of one."""

from __future__ import annotations

import json as json_module
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, BusPairs, Rec, opened

if TYPE_CHECKING:
    from keel.model.span import Span


class AlignBy(StrEnum):
    """How the second is laid over the first."""

    START = "start"
    MARK = "mark"
    TRAFFIC = "traffic"


Stretch = typer.Option(metavar="FROM..TO", help="Only these seconds of it, as 10..60; either may be left out.")


@app.command(
    epilog="Examples:  keel compare good.keel bad.keel   keel compare good.keel bad.keel --align traffic --html d.html"
    "   keel compare tern.keel tern.keel --span-a 0..60 --span-b 60..120 --ask 'bus:a'"
    "   keel compare good.keel bad.keel --bus can0=A"
)
def compare(
    a: Rec,
    b: Annotated[Path, typer.Argument(metavar="REC2", help="The other one.")],
    ask: Ask = "",
    bus: BusPairs = None,
    align: Annotated[AlignBy, typer.Option("--align", help="How their times go over each other.")] = AlignBy.START,
    span_a: Annotated[str, Stretch] = "",
    span_b: Annotated[str, Stretch] = "",
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
    html: Annotated[Path | None, typer.Option("--html", metavar="FILE", help="Write a report with drawings.")] = None,
) -> None:
    """Tell what is different: identifiers, cycles, loads, moving bits, ranges, states, faults, checks; ranked."""
    from keel.ask.language import parse
    from keel.ask.names import scene_of
    from keel.compare.buses import pair_given
    from keel.compare.differences import compare as run
    from keel.compare.report import as_html, as_json, as_lines
    from keel.compare.sides import Side, together
    from keel.model.safe_text import plain

    snapshots = [opened(a), opened(b)]
    sides = [
        Side.of(s, ask, _span(text, s.zero, s.span, option))
        for s, text, option in zip(snapshots, (span_a, span_b), ("--span-a", "--span-b"), strict=True)
    ]
    if sides[0].problem and sides[1].problem:
        parse(ask, scene_of(snapshots[0]))
    given = pair_given(bus or (), snapshots[0], snapshots[1])
    found = run(together(sides[0], sides[1], align.value, given))
    if html is not None:
        from keel.draw.comparison_charts import drawings_of
        from keel.errors import InputError

        try:
            html.write_text(as_html(found, drawings_of(found)), encoding="utf-8")
        except OSError as error:
            raise InputError(str(html), f"cannot be written ({error.strerror})", "a place to write to") from None
        say(f"{plain(str(html))}: written")
    if json:
        print(json_module.dumps(as_json(found), indent=1))
    elif html is None:
        for line in as_lines(found):
            print(line)


def _span(text: str, zero: int, whole: Span, option: str) -> Span | None:
    from keel.errors import InputError
    from keel.model.span import Span

    if not text:
        return None
    low, dots, high = text.partition("..")
    try:
        first = zero + round(float(low) * 1e9) if low else whole.start
        last = zero + round(float(high) * 1e9) if high else whole.end
    except (ValueError, OverflowError):
        first = last = 0
    if not dots or last <= first:
        raise InputError(option, f"“{text}” is no stretch of time", "seconds as 10..60")
    if first >= whole.end or last <= whole.start:
        raise InputError(option, f"“{text}” lies outside", f"a stretch of the {whole.seconds:.1f} s recorded")
    return Span(max(first, whole.start), min(last, whole.end))
