"""``keel hunt``: which field follows the marks?"""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import Annotated, Any

import typer

from keel.cli import app
from keel.cli.reading import Ask, Rec, read


@app.command(
    epilog="FILE holds a line start,end for each span, in seconds from the recording's start.   "
    "Example:  keel hunt tern.keel --marks pressed.csv --json"
)
def hunt(
    recording: Rec,
    marks: Annotated[
        Path | None,
        typer.Option("--marks", metavar="FILE", help="Spans; without it the recording's own marks, in pairs."),
    ] = None,
    ask: Ask = "",
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Find the fields that change within marked spans of time and not outside."""
    snapshot, scene, matches = read(recording, ask)
    from keel.hunt.marks import follow_marks
    from keel.hunt.spans import read_spans
    from keel.model.identity import format_ident, unpack_key
    from keel.model.plain import plain
    from keel.model.span import pair_up

    spans = read_spans(marks, scene.start) if marks else pair_up(snapshot.manifest.marks)
    findings = follow_marks(matches, spans)
    rows: list[dict[str, Any]] = []
    for found in findings.candidates:
        bus, form, ident = unpack_key(found.key)
        rows.append(
            {
                "bus": plain(snapshot.manifest.buses[bus].name),
                "id": format_ident(form, ident),
                "start": found.field.start,
                "length": found.field.length,
                "order": found.field.order,
                "signed": found.field.signed,
                "score": found.score,
                "why": found.why,
            }
        )
    if json:
        answer = {
            "evidence": findings.evidence,
            "nothing_probability": findings.nothing_probability,
            "candidates": rows,
        }
        print(json_module.dumps(answer, indent=1))
        return
    print(f"{findings.evidence}: {findings.verdict}")
    if rows:
        print(f"\n{'bus':8}{'id':>9}{'start':>7}{'length':>8}  {'order':8}{'signed':8}{'score':>6}  why")
    for row in rows:
        print(
            f"{row['bus'][:8]:8}{row['id']:>9}{row['start']:>7}{row['length']:>8}  {row['order']:8}"
            f"{'yes' if row['signed'] else 'no':8}{row['score']:>6.3f}  {row['why']}"
        )
