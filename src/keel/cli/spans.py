"""``keel spans``: messages by time and voltage."""

from __future__ import annotations

import json as json_module
import sys
from typing import Annotated, Any

import typer

from keel.cli import app
from keel.cli.arguments import Ask, Rec, read

BLOCK = 65_536


@app.command(
    epilog="Times are in ns, levels in volts.   Examples:  keel spans probe.keel   "
    "keel spans probe.keel --ask 'id:220' --each --csv"
)
def spans(
    recording: Rec,
    ask: Ask = "",
    each: Annotated[bool, typer.Option("--each", help="A row for each message rather than each identifier.")] = False,
    json: Annotated[bool, typer.Option("--json", help="JSON; with --each JSON lines.")] = False,
    csv: Annotated[bool, typer.Option("--csv", help="CSV with a header line.")] = False,
) -> None:
    """Start, end, length, silence before, and levels of messages."""
    if json and csv:
        raise typer.BadParameter("--json and --csv cannot both be")
    snapshot, scene, matches = read(recording, ask)
    from keel.ask.fetch import frames_at
    from keel.formats.row_table import rows_text
    from keel.probe.spans import by_identifier, spans_of
    from keel.probe.spans import each as each_of

    frames = frames_at(matches, 0, len(matches))
    measured = spans_of(snapshot, frames)
    if not each:
        rows = by_identifier(snapshot, frames, measured)
        if json:
            print(json_module.dumps(rows, indent=1))
        elif csv:
            sys.stdout.write(rows_text(rows))
        else:
            _table(rows, scene.zero)
        return
    rows = each_of(snapshot, frames, measured, matches.numbers(0, len(matches)))
    if csv:
        sys.stdout.write(rows_text(rows))
    elif json:
        sys.stdout.writelines(json_module.dumps(row) + "\n" for row in rows)
    else:
        _each(rows, scene.zero)


def _table(rows: list[dict[str, Any]], zero: int) -> None:
    from keel.model.safe_text import plain

    times = "".join(f"{one:>12}" for one in ("length ms", "min", "max", "gap ms", "min", "max"))
    print(f"{'bus':10}{'id':>12} {'dir':4}{'count':>8}{'first s':>14}{'last s':>14}{times}{'low V':>9}{'high V':>9}")
    for row in rows:
        times = "".join(
            f"{_scaled(row[f'{what}_{which}']):>12}" for what in ("length", "gap") for which in ("mean", "min", "max")
        )
        ends = "—" if row["end"] is None else f"{(row['end'] - zero) / 1e9:.6f}"
        levels = "".join(f"{'—' if one is None else f'{one:.2f}':>9}" for one in (row["low_mean"], row["high_mean"]))
        who = f"{plain(row['bus'])[:9]:10}{row['id'][:11]:>12} {row['dir']:4}{row['count']:>8}"
        print(f"{who}{(row['start'] - zero) / 1e9:>14.6f}{ends:>14}{times}{levels}")


def _each(rows: list[dict[str, Any]], zero: int) -> None:
    from keel.model.safe_text import plain

    titles = f"{'start s':>16}{'length ms':>12}{'gap ms':>12}{'low V':>9}{'high V':>9}"
    print(f"{'number':>9}  {'bus':10}{'id':>12} {'dir':4}{titles}")
    for row in rows:
        levels = "".join(f"{'—' if one is None else f'{one:.2f}':>9}" for one in (row["low"], row["high"]))
        who = f"{row['number']:>9}  {plain(row['bus'])[:9]:10}{row['id'][:11]:>12} {row['dir']:4}"
        times = f"{(row['start'] - zero) / 1e9:>16.9f}{_scaled(row['length']):>12}{_scaled(row['gap']):>12}"
        print(f"{who}{times}{levels}")


def _scaled(ns: float | None) -> str:
    return "—" if ns is None else f"{ns / 1e6:.6g}"
