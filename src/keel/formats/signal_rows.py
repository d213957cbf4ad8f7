"""Signals of frames as rows: lines of text, JSON, CSV, Parquet. One row for each signal of each frame that carries it.

Rows are in order of arrival, within a frame in the order of the dictionary.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from keel.media.every import format_ident
from keel.model.frames import FrameBatch, Rows, Times
from keel.model.identity import Form, unpack_key
from keel.model.safe_text import csv_cell, plain
from keel.model.units import NS_PER_S
from keel.signals.decoding import decode_rows
from keel.signals.dictionary import Message, TextField
from keel.signals.signal import ERROR, NOT_AVAILABLE, Signal, Standing

COLUMNS = ("t", "bus", "id", "signal", "value", "raw", "unit", "text")
_STANDING = {int(Standing.NOT_AVAILABLE): NOT_AVAILABLE, int(Standing.ERROR): ERROR}


@dataclass(frozen=True)
class Chosen:
    """What is wanted of one identifier."""

    message: Message
    signals: tuple[Signal, ...]
    text_fields: tuple[TextField, ...] = ()


@dataclass(frozen=True)
class Source:
    """What all values of one signal share; ``signal`` is None for a text field."""

    bus: str
    id: str | None
    name: str
    unit: str
    signal: Signal | None


@dataclass(frozen=True, eq=False)
class Values:
    """Values as columns of shape (n,).

    Attributes:
        t: ns since 1970.
        source: Index into ``sources``.
        value: NaN where there is none.
        raw: Two's complement where a field has 64 bits.
        text: What a value is called, or None.
    """

    sources: list[Source]
    t: Times
    source: Rows
    value: Any
    raw: Rows
    text: Any

    def __len__(self) -> int:
        return len(self.t)

    def rows(self) -> Iterator[tuple[int, Source, float | None, int | None, str | None]]:
        """Time, source, value, raw value and text, one after another."""
        values: Any = np.where(np.isfinite(self.value), self.value, None)
        columns: tuple[Any, ...] = (self.t, self.source, values, self.raw, self.text)
        for t, source, value, raw, text in zip(*(c.tolist() for c in columns), strict=True):
            of = self.sources[source]
            if of.signal is None:
                raw = None
            elif raw < 0 and not of.signal.field.signed:
                raw += 1 << 64
            yield t, of, value, raw, text


def values_of(batch: FrameBatch, chosen: dict[int, Chosen], buses: Sequence[str]) -> Values:
    """The values in frames in order of arrival; frames with a fault have none."""
    keys = batch.keys()
    sources: list[Source] = []
    parts: list[tuple[Rows, Any, Any, Any]] = []
    for key in np.unique(keys).tolist():
        wanted = chosen.get(key)
        if wanted is None:
            continue
        bus, form, ident = unpack_key(key)
        head = (plain(buses[bus]), None if form == Form.NONE else format_ident(form, ident))
        here = np.flatnonzero(keys == key)
        here = here[batch.is_sound(here)]
        name = plain(wanted.message.name)
        for signal in wanted.signals:
            found = decode_rows(wanted.message, signal, batch, here)
            sources.append(Source(*head, f"{name}.{plain(signal.name)}", plain(signal.unit), signal))
            parts.append((found.rows, found.values, found.raw, _texts(signal, found.raw, found.standing)))
        for field in wanted.text_fields:
            sources.append(Source(*head, f"{name}.{plain(field.name)}", plain(field.unit), None))
            parts.append(_text_values(batch, here, field))
    if not parts:
        nothing = np.zeros(0, np.int64)
        return Values(sources, nothing, nothing, np.zeros(0), nothing, np.zeros(0, object))
    rows, values, raws, texts = (np.concatenate(columns) for columns in zip(*parts, strict=True))
    source = np.repeat(np.arange(len(parts)), [len(p[0]) for p in parts])
    order = np.lexsort((source, rows))
    return Values(sources, batch.time[rows[order]], source[order], values[order], raws[order], texts[order])


def _texts(signal: Signal, raw: Rows, standing: Any) -> Any:
    texts = np.full(len(raw), None, object)
    for stands, word in _STANDING.items():
        texts[standing == stands] = word
    for value, text in signal.texts.items():
        texts[raw == value] = plain(text)
    return texts


def _text_values(batch: FrameBatch, here: Rows, field: TextField) -> tuple[Rows, Any, Any, Any]:
    found = [(at, field.value_of(batch.payload(at))) for at in here.tolist()]
    kept = [(at, value) for at, value in found if value is not None]
    values = np.array([np.nan if isinstance(v, str) else v for _, v in kept], np.float64)
    texts = np.array([plain(v) if isinstance(v, str) else None for _, v in kept], object)
    return np.array([at for at, _ in kept], np.int64), values, np.zeros(len(kept), np.int64), texts


def json_lines(values: Values) -> Iterator[str]:
    """One JSON object a row, without newlines."""
    heads = [
        (json.dumps({"bus": s.bus, "id": s.id, "signal": s.name})[1:-1], json.dumps(s.unit)) for s in values.sources
    ]
    known = {id(s): head for s, head in zip(values.sources, heads, strict=True)}
    for t, source, value, raw, text in values.rows():
        head, unit = known[id(source)]
        number, whole = "null" if value is None else repr(value), "null" if raw is None else raw
        called = "null" if text is None else json.dumps(text)
        yield f'{{"t": {t}, {head}, "value": {number}, "raw": {whole}, "unit": {unit}, "text": {called}}}'


def text_lines(values: Values, start: int, wide: int) -> Iterator[str]:
    """One line a row for reading; ``wide`` is the longest signal name."""
    for t, source, value, _, text in values.rows():
        words = text or "—"
        if text is None and value is not None:
            number = source.signal.number_words(value) if source.signal else f"{value:.10g}"
            words = f"{number} {source.unit}".rstrip()
        yield f"{(t - start) / NS_PER_S:14.6f}  {source.bus}  {source.id or '—':>8}  {source.name:{wide}}  {words}"


def csv_text(values: Values | None, header: bool) -> str:
    """CSV rows, with a header line if asked for. Text cells hold nothing that a spreadsheet would run."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    if header:
        writer.writerow(COLUMNS)
    if values is None:
        return out.getvalue()
    heads = {id(s): (csv_cell(s.bus), s.id or "", csv_cell(s.name)) for s in values.sources}
    units = {id(s): csv_cell(s.unit) for s in values.sources}
    writer.writerows(
        (t, *heads[id(s)], value, raw, units[id(s)], "" if text is None else csv_cell(text))
        for t, s, value, raw, text in values.rows()
    )
    return out.getvalue()


class ValuesWriter:
    """Parquet with zstd: one row a value; an unsigned raw value of 64 bits is its two's complement."""

    def __init__(self, path: Path) -> None:
        """Begin the file.

        Raises:
            OSError: it cannot be written.
        """
        import pyarrow as pa
        import pyarrow.parquet as pq

        names = pa.dictionary(pa.int32(), pa.string())
        kinds = {"t": pa.timestamp("ns", tz="UTC"), "value": pa.float64(), "raw": pa.int64(), "text": pa.string()}
        self._schema = pa.schema([(name, kinds.get(name, names)) for name in COLUMNS])
        self._writer = pq.ParquetWriter(path, self._schema, compression="zstd")

    def write(self, values: Values) -> None:
        """Add values."""
        import pyarrow as pa

        index = pa.array(values.source.astype(np.int32))

        def shared(texts: list[str | None]) -> Any:
            return pa.DictionaryArray.from_arrays(index, pa.array(texts, pa.string()))

        is_text = np.array([s.signal is None for s in values.sources] or [False])[values.source]
        columns = [
            pa.array(values.t).cast(self._schema.field("t").type),
            shared([s.bus for s in values.sources]),
            shared([s.id for s in values.sources]),
            shared([s.name for s in values.sources]),
            pa.array(values.value, mask=~np.isfinite(values.value)),
            pa.array(values.raw, mask=is_text),
            shared([s.unit for s in values.sources]),
            pa.array(values.text, pa.string()),
        ]
        # Sources of equal text would make a dictionary that says things twice.
        columns = [c.dictionary_decode().dictionary_encode() if pa.types.is_dictionary(c.type) else c for c in columns]
        self._writer.write_table(pa.table(columns, schema=self._schema))

    def close(self) -> None:
        """Finish the file."""
        self._writer.close()
