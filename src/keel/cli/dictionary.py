"""``keel dict``: signal dictionaries."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import Annotated

import typer

from keel.cli import app

dictionary = typer.Typer(help="Look into signal dictionaries.", no_args_is_help=True)
app.add_typer(dictionary, name="dict")


@dictionary.callback()
def _dict() -> None:
    """Look into signal dictionaries."""


@dictionary.command(epilog="Ends with 1 if anything was passed over.   Example:  keel dict check harbour.dbc")
def check(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="A signal database (.dbc).")],
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Read a dictionary and tell what is in it, and what could not be read and where."""
    from keel.model.plain import plain
    from keel.signals.dbc import read_dbc

    found = read_dbc(file)
    signals = sum(len(m.signals) for m in found.messages)
    if json:
        answer = {
            "messages": len(found.messages),
            "signals": signals,
            "nodes": len(found.nodes),
            "encoding": found.encoding,
            "kept": len(found.others),
            "problems": [
                {"line": p.line, "column": p.column, "what": p.what, "expected": p.expected} for p in found.problems
            ],
        }
        print(json_module.dumps(answer, indent=1))
    else:
        print(f"{len(found.messages)} messages, {signals} signals, {len(found.nodes)} nodes, text in {found.encoding}")
        if found.others:
            kinds = sorted({o.split(maxsplit=1)[0] for o in found.others})
            print(f"{len(found.others)} statements are kept as they are: {plain(', '.join(kinds))}")
        for problem in found.problems:
            print(plain(problem.words()))
    if found.problems:
        raise typer.Exit(1)
