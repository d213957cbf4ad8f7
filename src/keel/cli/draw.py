"""``keel draw``: drawings of a recording as SVG or PDF."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, read

if TYPE_CHECKING:
    from keel.ask.matches import Matches
    from keel.hunt.columns import Column
    from keel.store.recording import Snapshot

MOST_HISTOGRAMS = 12
MOST_VALUES = 8
COLUMNS = 1200


class Drawing(StrEnum):
    """What can be drawn."""

    LOAD = "load"
    CYCLES = "cycles"
    VALUES = "values"
    LOOM = "loom"
    RIBBON = "ribbon"
    CANDIDATE = "candidate"


@dataclass(frozen=True)
class Wanted:
    """What is to be drawn, from what, to where."""

    snapshot: Snapshot
    matches: Matches
    output: Path
    signals: str
    marks: Path | None
    readings: Path | None
    series: Path | None
    rank: int
    ask: str

    @property
    def name(self) -> str:
        """The recording's name."""
        return self.snapshot.manifest.name

    @property
    def of(self) -> str:
        """What a title says of the ask."""
        return f", of {self.ask}" if self.ask else ""

    @property
    def start(self) -> int:
        """Time zero, in ns."""
        return self.snapshot.span.start


def _evidence(option: str) -> typer.models.OptionInfo:
    found: typer.models.OptionInfo = typer.Option(option, metavar="FILE", help="Evidence for a candidate.")
    return found


@app.command(
    epilog="Examples:  keel draw load tern.keel -o load.svg   keel draw values tern.keel --signal '*.voltage' -o v.pdf"
    "   keel draw loom tern.keel --ask id:220 -o loom.svg   keel draw candidate tern.keel --marks m.csv -o found.svg"
)
def draw(
    what: Annotated[Drawing, typer.Argument(help="What to draw.")],
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
    DRAWERS[what](Wanted(snapshot, matches, output, signal, marks, readings, series, rank, ask))
    say(f"{output}: written")


def _load(wanted: Wanted) -> None:
    from keel.draw.charts import draw_load
    from keel.measure.load import Loads, cells_for

    manifest = wanted.snapshot.manifest
    series = Loads().series(wanted.matches, wanted.snapshot.span, cells_for(wanted.snapshot.span, 300))
    draw_load(
        wanted.output,
        f"{wanted.name}: load, exact bits{wanted.of}",
        series,
        manifest.buses,
        manifest.marks,
        wanted.start,
    )


def _cycles(wanted: Wanted) -> None:
    from keel.ask.names import names_of
    from keel.draw.charts import draw_cycles
    from keel.measure.census import census_of
    from keel.measure.cycles import describe_tally
    from keel.model.identity import key_words

    names = names_of(wanted.snapshot)
    nominal = wanted.snapshot.manifest.nominal
    times = sorted(census_of(wanted.matches).items(), key=lambda item: -item[1].frames)
    cycles = [
        (
            f"{names.get(key, '')} {key_words(key)}".strip(),
            key >> 56,
            describe_tally(t, wanted.snapshot.span.end, 40, nominal.get(key, 0)),
        )
        for key, t in times[:MOST_HISTOGRAMS]
    ]
    left = len(times) - len(cycles)
    title = f"{wanted.name}: cycle times" + (f", the {len(cycles)} busiest of {len(times)}" if left else "")
    draw_cycles(wanted.output, title, cycles)


def _values(wanted: Wanted) -> None:
    from keel.ask.names import keys_of
    from keel.cli.signals import choose
    from keel.draw.fields import draw_values
    from keel.errors import InputError
    from keel.measure.courses import Courses

    patterns = [p.strip() for p in wanted.signals.split(",") if p.strip()]
    chosen = choose(wanted.snapshot.book, keys_of(wanted.snapshot), patterns)
    found = [(key, c.message, s) for key, c in chosen.items() for s in c.signals]
    if not found:
        raise InputError("--signal", "no signal that is known is in the recording", "a dictionary that knows it")
    courses = Courses()
    series = [
        (f"{m.name}.{s.name}", courses.envelope(wanted.matches, key, m, s, wanted.snapshot.span, COLUMNS))
        for key, m, s in found[:MOST_VALUES]
    ]
    left = len(found) - len(series)
    title = f"{wanted.name}: values" + (f", the first {len(series)} of {len(found)} signals" if left else "")
    draw_values(wanted.output, title, series, wanted.start)


def _busiest(wanted: Wanted) -> Column:
    """The identifier to draw: the one the ask leaves, or the busiest of several."""
    from keel.errors import InputError
    from keel.hunt.columns import gather

    found = [c for c in gather(wanted.matches).values() if len(c.times) and c.payloads.shape[1]]
    if not found:
        raise InputError("--ask", "it leaves no frame without fault", "an ask such as id:220")
    return max(found, key=lambda c: len(c.times) * c.every)


def _loom(wanted: Wanted) -> None:
    from keel.draw.fields import LOOM_ROWS, draw_loom
    from keel.hunt.columns import flip_shares
    from keel.model.identity import key_words
    from keel.model.span import Span

    column = _busiest(wanted)
    key = column.key
    edges = Span(int(column.times[0]), int(column.times[-1]) + 1).edges(LOOM_ROWS)
    message = wanted.snapshot.book.message(key)
    parts = [(s.name, s.field, s.role) for s in message.signals] if message else []
    parts = [p for p in parts if p[1].last_byte < column.payloads.shape[1]]
    title = f"{wanted.name}: bit loom of {message.name if message else ''} {key_words(key)}"
    draw_loom(wanted.output, title, flip_shares(column, edges), edges, wanted.start, parts)


def _ribbon(wanted: Wanted) -> None:
    from keel.draw.fields import draw_ribbon
    from keel.model.identity import key_words

    column = _busiest(wanted)
    key, payload = column.key, column.payloads[-1].tobytes()
    message = wanted.snapshot.book.message(key)
    parts = [(s.name, s.field, s.role) for s in message.present(payload)] if message else []
    title = f"{wanted.name}: {message.name if message else ''} {key_words(key)}, its last payload"
    draw_ribbon(wanted.output, title, payload, parts)


def _candidate(wanted: Wanted) -> None:
    from keel.cli.hunt import evidence_of
    from keel.draw.charts import draw_candidate
    from keel.errors import InputError
    from keel.hunt.columns import gather
    from keel.hunt.traffic import Traffic
    from keel.model.identity import key_words

    traffic = Traffic.of(gather(wanted.matches))
    given = evidence_of(wanted.snapshot, wanted.start, wanted.marks, wanted.readings, wanted.series)
    findings = given.follow(traffic)
    if wanted.rank > len(findings.candidates):
        raise InputError(
            "--rank", f"there are {len(findings.candidates)} candidates: {findings.sentence}", "a candidate"
        )
    found = findings.candidates[wanted.rank - 1]
    times, raw = traffic.values(found.key, found.field, found.page)
    message = wanted.snapshot.book.message(found.key)
    title = f"{message.name if message else ''} {key_words(found.key)}, {found.field.words()}".strip()
    values = raw * (found.scale or 1.0) + (found.offset or 0.0)
    draw_candidate(
        wanted.output, title, found.why, times, values, given.spans, wanted.snapshot.span, wanted.start, given.points
    )


DRAWERS: dict[Drawing, Callable[[Wanted], None]] = {
    Drawing.LOAD: _load,
    Drawing.CYCLES: _cycles,
    Drawing.VALUES: _values,
    Drawing.LOOM: _loom,
    Drawing.RIBBON: _ribbon,
    Drawing.CANDIDATE: _candidate,
}
