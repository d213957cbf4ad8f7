"""The rows of the Hunt view: candidates, what is wrong in bad traffic, or the fields that payloads are made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from keel.app.desk.picture import Picture
from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.strokes import bar
from keel.app.paint.table import Column, fit, grow, header, row_line, write_cells
from keel.app.views.hunt.search import Result
from keel.compare.buses import BusPairs
from keel.hunt.candidates import Candidate, under_originals
from keel.media.every import key_words
from keel.model.fields import BitField
from keel.signals.signal import GLYPHS

_WHO = (
    Column("rank", "rank", 4, True),
    Column("bus", "bus", 4),
    Column("id", "identifier", 10, True),
    Column("name", "name", 16, drop=2),
)
_WHERE = (Column("start", "start bit", 9, True), Column("bits", "bits", 4, True))
CANDIDATES = (
    *_WHO,
    *_WHERE,
    Column("order", "order", 6, drop=4),
    Column("type", "type", 4, drop=3),
    Column("bar", "score", 8, drop=5),
    Column("score", "", 5, True),
    Column("scale", "scale", 9, True, drop=6),
    Column("offset", "offset", 8, True, drop=7),
    Column("known", "known as", 10, drop=1),
    Column("why", "why", 40, drop=8),
)
DIFFERENCES = (
    *_WHO,
    Column("kind", "kind", 16),
    *_WHERE,
    Column("bar", "score", 8, drop=5),
    Column("score", "", 5, True),
    Column("time", "first", 10, True, drop=3),
    Column("why", "what is different", 50, drop=4),
)
FIELDS = (
    *_WHO,
    Column("glyph", "", 1),
    Column("kind", "kind", 9),
    *_WHERE,
    Column("order", "order", 6, drop=4),
    Column("type", "type", 5, drop=3),
    Column("page", "mux", 4, True, drop=5),
    Column("known", "known as", 12, drop=1),
    Column("why", "made by", 50, drop=6),
)


@dataclass(frozen=True)
class Row:
    """A row: whose field it is, the cells of its columns, and a label that tells it from all others."""

    key: int
    field: BitField | None
    page: int | None
    cells: dict[str, tuple[str, str]]
    label: object
    candidate: Candidate | None = None
    times: tuple[int, ...] = ()
    header: str = ""

    def where(self) -> str:
        """Where its field is, in words."""
        return f"{self.header} of the header" if self.header else self.field.words() if self.field else ""


def rows_of(picture: Picture, result: Result, ruled_out: frozenset[object]) -> tuple[tuple[Column, ...], list[Row]]:
    """Columns and rows of a result; what was ruled out is left out."""
    if result.differences is not None:
        return DIFFERENCES, _differences(picture, result)
    if result.sought.mode == "structure":
        return FIELDS, _fields(picture, result)
    kept = under_originals([c for c in result.findings.candidates if name_of(c) not in ruled_out])
    originals = {c.family: c for c in reversed(kept)}
    has_scale = any(c.scale is not None for c in kept)
    columns = tuple(column for column in CANDIDATES if has_scale or column.name not in ("scale", "offset"))
    return columns, [_candidate(picture, i, c, originals[c.family] is not c) for i, c in enumerate(kept)]


def name_of(candidate: Candidate) -> object:
    """What tells a candidate from all others, also in another search."""
    return candidate.key, candidate.page, candidate.field, candidate.header


def _who(picture: Picture, rank: int, key: int, buses: BusPairs | None = None) -> dict[str, tuple[str, str]]:
    bus = picture.bus_name(key) if buses is None else buses.name(key)
    return {
        "rank": (str(rank + 1), "brass"),
        "bus": (f" {bus}", f"bus{key >> 56}"),
        "id": (key_words(key), "strong"),
        "name": (picture.name(key), "text"),
    }


def _where(field: BitField, header: str = "") -> dict[str, tuple[str, str]]:
    one_byte = field.last_byte == min(field.bits) // 8
    return {
        # A little-endian field is named by its least significant bit, a big-endian one by its most.
        "start": ("header" if header else f"{field.start} {'msb' if field.order == 'big' else 'lsb'}", "text"),
        "bits": (str(field.length), "text"),
        "order": ("–" if one_byte else field.order, "dim"),
        "type": ("int" if field.signed else "flag" if field.length == 1 else "uint", "dim"),
    }


def known_as(picture: Picture, key: int, field: BitField) -> str:
    """The signal that takes some of a field's bits."""
    message = picture.messages.get(key)
    bits = set(field.bits)
    for signal in message.signals if message else ():
        if signal.source != "header" and bits & set(signal.field.bits):
            return signal.name
    return "—"


def _candidate(picture: Picture, rank: int, c: Candidate, is_copy: bool) -> Row:
    cells = {
        **_who(picture, rank, c.key),
        **_where(c.field, c.header),
        "bar": (bar(c.score, 8), "sea"),
        "score": (f"{c.score:.3f}", "text"),
        "scale": ("" if c.scale is None else f"{c.scale:.6g}", "text"),
        "offset": ("" if c.offset is None else f"{c.offset:.6g}", "text"),
        "known": (c.header or known_as(picture, c.key, c.field), "plum"),
        "why": (f"└ a copy: {c.why}" if is_copy else c.why, "dim"),
    }
    return Row(c.key, c.field, c.page, cells, name_of(c), c, header=c.header)


def _differences(picture: Picture, result: Result) -> list[Row]:
    assert result.differences is not None
    start = min((int(c.times[0]) for c in result.bad.values() if len(c.times)), default=0)
    rows = []
    for i, f in enumerate(result.differences.findings):
        cells = {
            **_who(picture, i, f.key, result.buses),
            **(_where(f.field) if f.field is not None else {}),
            "kind": (f.kind.replace("_", " "), "coral"),
            "bar": (bar(f.score, 8), "sea"),
            "score": (f"{f.score:.3f}", "text"),
            "time": (f"{words.seconds(f.times[0] - start, 2)} s" if f.times else "", "dim"),
            "why": (f.why, "dim"),
        }
        rows.append(Row(f.key, f.field, f.page, cells, (f.key, f.field, f.page, f.kind), times=f.times))
    return rows


def _fields(picture: Picture, result: Result) -> list[Row]:
    rows: list[Row] = []
    for key, structure in result.traffic.structures.items():
        of_headers = [carrier.piece for carrier in result.traffic.headers.get(key, {}).values()]
        for piece in (*structure.pieces, *of_headers):
            if piece.kind == "constant":
                continue
            cells = {
                **_who(picture, len(rows), key),
                **_where(piece.field, piece.header),
                "glyph": (GLYPHS[piece.kind], "brass"),
                "kind": (piece.kind, "text"),
                "page": ("" if piece.page is None else str(piece.page), "dim"),
                "known": (piece.header or known_as(picture, key, piece.field), "plum"),
                "why": (piece.algorithm, "dim"),
            }
            label = (key, piece.field, piece.page, piece.header)
            rows.append(Row(key, piece.field, piece.page, cells, label, header=piece.header))
    return rows


def table(here: Here, columns: tuple[Column, ...], rows: Sequence[Row], top: int, room: int, cursor: int) -> list[Line]:
    """Titles, and so many rows from the top one."""
    width = here.width
    buses = max((len(bus.name) for bus in here.picture.snapshot.manifest.buses), default=1)
    widest = max((len(row.cells["id"][0]) for row in rows), default=0)
    widths = {"bus": min(max(4, buses + 2), 14), "id": max(10, widest)}
    sized = tuple(replace(c, width=widths.get(c.name, c.width)) for c in columns)
    placed = fit(sized, width - 3)
    placed = grow(placed, "why", max(width - 3 - placed[-1][1] - placed[-1][0].width, 0))
    lines = [header(here.palette, width, placed, 2)]
    for i in range(top, min(top + room, len(rows))):
        line, on = row_line(here.palette, width, i == cursor)
        cells = {
            name: (text, here.palette.bus(int(role[3:])) if role.startswith("bus") else role)
            for name, (text, role) in rows[i].cells.items()
        }
        write_cells(here.palette, line, placed, 2, cells, on, "id")
        lines.append(line)
    return lines
