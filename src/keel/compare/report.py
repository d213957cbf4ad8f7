"""A comparison as plain data, as lines of text, and as one HTML file with the drawings inside."""

from __future__ import annotations

import html
from collections.abc import Iterator
from typing import Any

from keel.compare.difference import Difference
from keel.compare.differences import Comparison
from keel.compare.sides import Side
from keel.media.every import format_ident
from keel.model.identity import unpack_key
from keel.model.safe_text import plain
from keel.model.units import NS_PER_S

HTML_ROWS = 500
STYLE = """
body { font: 14px/1.45 system-ui, sans-serif; color: #1b2530; margin: 2rem auto; max-width: 75rem; padding: 0 1rem; }
h1 { font-size: 1.3rem; } h2 { font-size: 1.05rem; margin-top: 2rem; } p, td { vertical-align: top; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; color: #6b7a88; font-weight: normal; }
td, th { padding: .2rem .7rem .2rem 0; border-bottom: 1px solid #dde3e8; }
.id { font-family: ui-monospace, monospace; } .score { text-align: right; } .dim { color: #6b7a88; }
svg { max-width: 100%; height: auto; }
"""


SIDES = (("this", "a"), ("other", "b"))
"""What each side is called, and its key in the JSON form."""


def kind_words(kind: str) -> str:
    """A kind of difference as a person reads it."""
    return {"only_in_a": "only in this", "only_in_b": "only in other"}.get(kind, kind.replace("_", " "))


def as_json(found: Comparison) -> dict[str, Any]:
    """Plain data; times are seconds from the start of each recording, or of the span of it that was chosen."""
    return {
        "a": _side(found.a),
        "b": _side(found.b),
        "aligned": {
            "by": found.alignment.by,
            "offset_s": round(found.alignment.offset_ns / NS_PER_S, 6),
            "why": found.alignment.words,
        },
        "buses": [
            {"a": plain(found.buses.a[ours]), "b": plain(found.buses.b[theirs])}
            for theirs, ours in enumerate(found.buses.partners)
            if ours is not None
        ],
        "notes": [plain(sentence) for sentence in found.both.words],
        "problem": plain(found.both.problem) or None,
        "differences": [_row(found, d) for d in found.differences],
    }


def _side(side: Side) -> dict[str, Any]:
    return {
        "name": plain(side.name),
        "frames": len(side.matches),
        "seconds": round((side.span.end - side.span.start) / NS_PER_S, 6),
        "identifiers": len(side.census),
        "problem": plain(side.problem) or None,
    }


def _ident(key: int | None) -> str | None:
    if key is None:
        return None
    _, form, ident = unpack_key(key)
    return format_ident(form, ident)


def _row(found: Comparison, d: Difference) -> dict[str, Any]:
    field = None if d.field is None else {"start": d.field.start, "length": d.field.length, "order": d.field.order}
    times = [
        None if t is None else round((t - side.zero) / NS_PER_S, 6)
        for t, side in ((d.time_a, found.a), (d.time_b, found.b))
    ]
    return {
        "bus": plain(d.bus),
        "id": _ident(d.key),
        "name": plain(found.name(d.key)),
        "kind": d.kind,
        "signal": plain(d.signal) or None,
        "field": field,
        "a": plain(d.a),
        "b": plain(d.b),
        "score": d.score,
        "time_a": times[0],
        "time_b": times[1],
        "why": plain(d.why),
    }


def as_lines(found: Comparison) -> Iterator[str]:
    """For reading in a terminal."""
    data = as_json(found)
    for name, letter in SIDES:
        side = data[letter]
        yield f"{name:5}  {side['name']}: {side['frames']} frames, {side['seconds']:.1f} s"
    yield f"aligned {data['aligned']['why']}"
    yield from data["notes"]
    if data["problem"]:
        yield f"not compared: {data['problem']}"
        return
    if not data["differences"]:
        yield "no difference beyond what chance makes"
        return
    yield ""
    yield f"{'score':>5}  {'kind':15}{'bus':5}{'id':>9}  {'name':20}  why"
    for row in data["differences"]:
        kind = kind_words(row["kind"])
        who = f"{row['bus'][:4]:5}{row['id'] or '':>9}  {row['name'][:20]:20}"
        yield f"{row['score']:5.2f}  {kind:15}{who}  {row['why']}"


def as_html(found: Comparison, drawings: list[tuple[str, str]]) -> str:
    """One file that needs no other: what is different as a table, and the drawings (title, SVG) inside."""
    data = as_json(found)
    title = f"{data['a']['name']} and {data['b']['name']} compared"
    parts = [
        "<!DOCTYPE html>",
        '<html lang="en"><head><meta charset="utf-8">',
        f"<title>{html.escape(title)}</title><style>{STYLE}</style></head><body>",
        f"<h1>{html.escape(title)}</h1>",
    ]
    for name, letter in SIDES:
        side = data[letter]
        text = f"{name}: {side['name']}, {side['frames']} frames in {side['seconds']:.1f} s, "
        parts.append(f"<p>{html.escape(text)}{side['identifiers']} identifiers</p>")
    for sentence in (f"aligned {data['aligned']['why']}", *data["notes"]):
        parts.append(f'<p class="dim">{html.escape(sentence)}</p>')
    if data["problem"]:
        parts.append(f"<p>not compared: {html.escape(data['problem'])}</p>")
    rows = data["differences"]
    parts.append(f"<h2>{len(rows)} differences, the most telling first</h2>")
    parts.append("<table><tr><th>score</th><th>kind</th><th>bus</th><th>identifier</th><th>name</th>")
    parts.append("<th>this</th><th>other</th><th>why</th><th>look at</th></tr>")
    for row in rows[:HTML_ROWS]:
        times = [f"{n} {row[k]:.3f} s" for n, k in (("this", "time_a"), ("other", "time_b")) if row[k] is not None]
        cells = [
            kind_words(row["kind"]),
            row["bus"],
            row["id"] or "",
            row["name"],
            row["a"],
            row["b"],
            row["why"],
        ]
        tags = ["", "", ' class="id"', "", "", "", ""]
        inner = "".join(f"<td{tag}>{html.escape(str(cell))}</td>" for tag, cell in zip(tags, cells, strict=True))
        look = f'<td class="dim">{html.escape(", ".join(times))}</td>'
        parts.append(f'<tr><td class="score">{row["score"]:.2f}</td>{inner}{look}</tr>')
    parts.append("</table>")
    if len(rows) > HTML_ROWS:
        parts.append(f'<p class="dim">and {len(rows) - HTML_ROWS} more</p>')
    for heading, svg in drawings:
        # The drawing's own declaration has no place inside a page.
        inside = svg[svg.index("<svg") :]
        parts.append(f"<h2>{html.escape(plain(heading))}</h2>{inside}")
    return "\n".join([*parts, "</body></html>", ""])
