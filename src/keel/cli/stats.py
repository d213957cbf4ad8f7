"""``keel stats``: traffic by bus and identifier."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from keel.cli import app
from keel.cli.arguments import Ask, Rec, read


@app.command(
    epilog="Times are in seconds, first and last from the recording's start; load is from 0 to 1.   "
    "Examples:  keel stats tern.keel   keel stats tern.keel --ask 'bus:a' --json"
)
def stats(
    recording: Rec,
    ask: Ask = "",
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Count frames, cycle times, changes and faults by identifier, and the load of each bus."""
    _, scene, matches = read(recording, ask)
    from keel.measure.report import traffic

    report = traffic(matches, scene.zero)
    if json:
        print(_json(report))
        return
    _print_buses(report["buses"])
    print()
    _print_identifiers(report["identifiers"])


def _json(report: dict[str, Any]) -> str:
    """The report, a row a line: there may be a hundred thousand."""
    from msgspec.json import encode

    lists = {name: b",\n".join(map(encode, rows)).decode() for name, rows in report.items() if isinstance(rows, list)}
    whole = encode({name: value for name, value in report.items() if name not in lists}).decode()[:-1]
    return whole + "".join(f',\n"{name}": [\n{rows}\n]' for name, rows in lists.items()) + "}"


def _print_buses(buses: list[dict[str, Any]]) -> None:
    print(f"{'bus':8}{'frames':>12}{'load':>9}{'peak':>9}")
    for row in buses:
        mean, peak = ("—" if row[name] is None else f"{row[name]:.2%}" for name in ("load_mean", "load_peak"))
        print(f"{row['bus'][:8]:8}{row['frames']:>12}{mean:>9}{peak:>9}")


def _print_identifiers(rows: list[dict[str, Any]]) -> None:
    print(
        f"{'bus':8}{'id':>9}  {'name':20}{'frames':>10}{'first s':>12}{'last s':>12}"
        f"{'cycle ms':>11}{'min':>10}{'max':>11}{'std':>9}{'changes':>9}{'faults':>8}"
    )
    for row in rows:
        cells = [row[f"cycle_{what}"] for what in ("mean", "min", "max", "std")]
        mean, least, most, std = ("" if c is None else f"{c * 1000:.3f}" for c in cells)
        print(
            f"{row['bus'][:8]:8}{row['id'] or '—':>9}  {row['name'][:20]:20}{row['frames']:>10}"
            f"{row['first']:>12.6f}{row['last']:>12.6f}{mean:>11}{least:>10}{most:>11}{std:>9}"
            f"{row['payload_changes']:>9}{row['faults']:>8}"
        )
