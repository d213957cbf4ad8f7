"""What the Hunt view draws of the row in hand: its value over the evidence, and the bit loom of its identifier."""

from __future__ import annotations

import numpy as np

from keel.app.desk.picture import Picture
from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Chart, Curve, Dot, draw_chart
from keel.app.paint.loom import loom
from keel.app.paint.palette import Palette
from keel.app.views.hunt.rows import Row
from keel.app.views.hunt.search import Result
from keel.hunt.carriers import Floats
from keel.hunt.columns import Column, flip_shares
from keel.hunt.structure import Structure
from keel.media.every import key_words
from keel.model.fields import BitField, extract
from keel.model.span import Span
from keel.model.units import NS_PER_S

LOOM_ROWS = 28
MOST_POINTS = 20_000


def drawings(here: Here, height: int, result: Result, row: Row, number: int) -> list[Line]:
    """The chart, and beside it the loom where there is room."""
    palette, width, picture = here.palette, here.width, here.picture
    column = result.bad.get(row.key) or result.traffic.columns.get(row.key)
    lines = [Line(width, palette.style("text")) for _ in range(height)]
    if column is None or height < 8 or not len(column.times):
        return lines
    shown_bytes = min(column.payloads.shape[1], 8)
    wide = max(shown_bytes * 9 + 4, 46) if width >= 130 and shown_bytes else 0
    left = width - wide - (2 if wide else 0)
    chart = _chart(palette, left, height, picture, result, row, number, width >= 105)
    for line, drawn in zip(lines, chart, strict=False):
        line.paste(0, drawn)
    if wide:
        rows = min(height - 2, LOOM_ROWS)
        for line, drawn in zip(lines, _loom(palette, wide, rows, result, row, column), strict=False):
            line.paste(left + 2, drawn)
    return lines


def _chart(
    palette: Palette,
    width: int,
    height: int,
    picture: Picture,
    result: Result,
    row: Row,
    number: int,
    has_why: bool,
) -> list[Line]:
    title = Line(width, palette.style("text"))
    name = "difference" if result.differences is not None else "field" if row.candidate is None else "candidate"
    at = title.put(2, f"{name} {number}", palette.style("sea", bold=True)) + 1
    title.put(at, _title(picture, result, row, has_why), palette.style("dim"), width - at - 1)
    curves, dots, spans = _curves(picture, result, row)
    if not curves:
        return [title]
    low = min(float(c.y.min()) for c in curves)
    high = max(float(c.y.max()) for c in curves)
    for dot in dots:
        low, high = min(low, dot.y), max(high, dot.y)
    margin = max((high - low) * 0.08, 0.2 if row.candidate is None or row.candidate.scale is None else 1e-9)
    window = (min(float(c.x[0]) for c in curves), max(float(c.x[-1]) for c in curves))
    chart = Chart(curves, window, (low - margin, high + margin), spans=spans, dots=dots)
    return [title, *draw_chart(palette, width, height - 1, chart)]


def _title(picture: Picture, result: Result, row: Row, has_why: bool) -> str:
    name = picture.name(row.key)
    if result.differences is not None:
        what = f"{name} {row.field.words()}" if row.field else f"{name}, time since its frame before, in ms"
        return f"{what}: bad over good, each from its start"
    if row.field is None:
        return name
    if row.candidate is None:
        return f"{name} {row.where()}, raw"
    if not has_why:
        # There is no room for the column that says why.
        return f"{name}: {row.candidate.why}"
    if row.candidate.scale is None:
        return f"{name} {row.where()}, raw, over your marked spans"
    scaling = f"× {row.candidate.scale:.6g}" + (f" + {row.candidate.offset:.6g}" if row.candidate.offset else "")
    missed = ""
    if row.candidate.residual is not None:
        missed = f", off by {row.candidate.residual[0]:.3g}, at worst {row.candidate.residual[1]:.3g}"
    return f"{name} {scaling}, ● what you read{missed}"


def _curves(picture: Picture, result: Result, row: Row) -> tuple[list[Curve], list[Dot], list[tuple[float, float]]]:
    traffic = result.traffic
    zero = picture.zero
    if result.differences is not None:
        structure = traffic.structures.get(row.key)
        pairs = [(traffic.columns.get(row.key), "sea"), (result.bad.get(row.key), "coral")]
        return [c for column, role in pairs if column is not None for c in _one(column, structure, row, role)], [], []
    if row.field is None:
        return [], [], []
    when, raw = traffic.values(row.key, row.field, row.page, row.header)
    candidate = row.candidate
    scale = candidate.scale if candidate is not None and candidate.scale is not None else 1.0
    offset = candidate.offset if candidate is not None and candidate.offset is not None else 0.0
    x = (when - zero) / NS_PER_S
    if not len(x):
        return [], [], []
    spans, dots = [], []
    if candidate is not None:
        spans = [((s.start - zero) / NS_PER_S, (s.end - zero) / NS_PER_S) for s in result.spans]
        if result.points is not None and candidate.scale is not None:
            times = (result.points.times - zero) / NS_PER_S - candidate.lag_s
            dots = [Dot(float(t), float(v)) for t, v in zip(times[:200], result.points.values[:200], strict=True)]
    return [_stepped(x, raw.astype(np.float64) * scale + offset, "sea")], dots, spans


def _one(column: Column, structure: Structure | None, row: Row, role: str) -> list[Curve]:
    """A field, or the cycle times, of one side, from its start."""
    x = (column.times - column.times[0]) / NS_PER_S if len(column.times) else np.zeros(0)
    field: BitField | None = row.field
    if len(x) < 2:
        return []
    if field is None or structure is None or field.last_byte >= column.payloads.shape[1]:
        return [_stepped(x[1:], np.diff(column.times) / 1e6, role)]
    rows = structure.rows_of(row.page, column.payloads)
    return [_stepped(x[rows], extract(field, column.payloads[rows]).astype(np.float64), role)] if rows.any() else []


def _stepped(x: Floats, y: Floats, role: str) -> Curve:
    """Held values make steps: each value lasts until the next frame."""
    stepped_x, stepped_y = np.repeat(x, 2)[1:], np.repeat(y, 2)[:-1]
    if len(stepped_x) > MOST_POINTS:
        keep = np.linspace(0, len(stepped_x) - 1, MOST_POINTS).astype(int)
        stepped_x, stepped_y = stepped_x[keep], stepped_y[keep]
    return Curve(stepped_x, stepped_y, role)


def _loom(palette: Palette, width: int, rows: int, result: Result, row: Row, column: Column) -> list[Line]:
    title = Line(width, palette.style("text"))
    edges = Span(int(column.times[0]), int(column.times[-1]) + 1).edges(rows)
    each = (edges[-1] - edges[0]) / rows
    of = " · bad" if result.differences is not None and row.key in result.bad else ""
    title.put(2, f"bit loom · {key_words(row.key)}{of} · {words.length(each)} a row", palette.style("dim"))
    pairs = zip(edges, edges[1:], strict=False)
    marked = np.array([any(s.start < b and s.end > a for s in result.spans) for a, b in pairs])
    field = row.field if row.field is not None and not row.header else BitField(0, 1)
    first = max(min(field.bits) // 8 - 3, 0) if column.payloads.shape[1] > 8 else 0
    return [title, *loom(palette, width, flip_shares(column, edges), field, marked, first)]
