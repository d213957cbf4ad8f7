"""Arrow and Parquet tables: columns by name, as Keel writes them; only time, identifier and payload must be there."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from keel.errors import InputError
from keel.formats.arrow import MEDIA_KEY
from keel.formats.reader import Account, Format, Progress
from keel.lines.can import with_wire_bits
from keel.media.every import medium_of_form
from keel.model.bus import MOST_BUSES, bus_name
from keel.model.frames import COLUMNS, LENGTH_TO_DLC, OPTIONAL, FrameBatch, faults_of
from keel.model.identity import Form
from keel.model.safe_text import plain

ROWS = 1 << 18
CROWDED = f"frames of more than {MOST_BUSES} buses"


def read(path: Path, account: Account, progress: Progress) -> Iterator[FrameBatch]:
    """Read a table in pieces.

    Raises:
        InputError: it cannot be read, or lacks a column.
    """
    import pyarrow as pa

    try:
        total, records = _records(path, account)
        done = 0
        for record in records:
            batch = _batch(record, account, str(path))
            account.took(batch)
            yield batch
            done += len(batch)
            progress(done, total)
    except (pa.ArrowException, OSError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError(str(path), f"cannot be read ({error})", "an Arrow or Parquet table") from None


def _records(path: Path, account: Account) -> tuple[int, Iterator[Any]]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    with path.open("rb") as file:
        magic = file.read(8)
    if magic[:4] == b"PAR1":
        table = pq.ParquetFile(path)
        account.media |= _media_of(table.schema_arrow)
        columns = [name for name in (*COLUMNS, *OPTIONAL, "payload", "order") if name in table.schema_arrow.names]
        if "order" in columns:
            # A packed segment: its rows lie clustered.
            whole = table.read(columns)
            return table.metadata.num_rows, iter(whole.take(whole["order"]).drop_columns("order").to_batches(ROWS))
        return table.metadata.num_rows, table.iter_batches(ROWS, columns=columns)
    source = pa.OSFile(str(path))
    opened = pa.ipc.open_file(source) if magic[:6] == b"ARROW1" else pa.ipc.open_stream(source)
    whole = opened.read_all()
    account.media |= _media_of(whole.schema)
    if "order" in whole.column_names:
        whole = whole.take(whole["order"])
    return whole.num_rows, iter(whole.to_batches(ROWS))


def _media_of(schema: Any) -> dict[str, str]:
    """What the table says of the kinds of line its buses are."""
    try:
        said = json.loads((schema.metadata or {}).get(MEDIA_KEY.encode(), b"{}"))
        return {bus_name(name): plain(medium, 40) for name, medium in said.items()}
    except (ValueError, AttributeError, TypeError):
        return {}


def _batch(record: Any, account: Account, where: str) -> FrameBatch:
    import pyarrow as pa
    import pyarrow.compute as pc

    names = record.schema.names
    for needed in ("time", "ident", "payload"):
        if needed not in names:
            raise InputError(where, f"has no column {needed}", "columns time, ident and payload at least")
    n = record.num_rows
    payload = pc.fill_null(record.column("payload").cast(pa.large_binary()), b"")
    _, ends, data = payload.buffers()
    offsets = np.frombuffer(ends, np.int64, n + 1, payload.offset * 8)
    bytes_ = np.frombuffer(data, np.uint8) if data is not None and len(data) else np.zeros(0, np.uint8)
    lengths = np.diff(offsets)
    ident = _numbers(record.column("ident"), np.uint64)
    defaults: dict[str, Any] = {
        "form": np.where(ident > np.uint64(0x7FF), int(Form.EXTENDED), int(Form.BASE)),
        "dlc": LENGTH_TO_DLC[np.minimum(lengths, 64)],
    }
    columns: dict[str, Any] = {}
    for name, kind in COLUMNS.items():
        if name == "bus":
            columns[name] = _buses(record.column("bus") if "bus" in names else None, n, account)
        elif name in names:
            columns[name] = _numbers(record.column(name), np.uint64 if name == "faults" else kind)
        else:
            columns[name] = np.broadcast_to(np.asarray(defaults.get(name, 0)), n).astype(kind)
    columns["faults"] = faults_of(columns["faults"])
    bus = columns["bus"]
    columns["bus"] = np.maximum(bus, 0).astype(np.uint8)
    extras = _extras(record)
    batch = FrameBatch(**columns, offsets=offsets - offsets[0], data=bytes_[offsets[0] : offsets[-1]], **extras)
    _say_media(batch, account)
    if (bus < 0).any():
        before = account.unkept.get(CROWDED, 0)
        first = account.frames + before + int((bus < 0).argmax())
        account.lose(CROWDED, f"row {first + 1}", before + int((bus < 0).sum()))
        batch = batch.take(np.flatnonzero(bus >= 0))
    return batch if "bits" in names and "fast_bits" in names else with_wire_bits(batch)


def _extras(record: Any) -> dict[str, Any]:
    """The columns that not all tables of frames have."""
    import pyarrow as pa

    found: dict[str, Any] = {}
    if "duration" in record.schema.names:
        found["duration"] = _numbers(record.column("duration"), np.int64)
    if "header" in record.schema.names and pa.types.is_fixed_size_binary(record.schema.field("header").type):
        header = record.column("header")
        width = header.type.byte_width
        whole = np.frombuffer(header.buffers()[1], np.uint8, len(header) * width, header.offset * width)
        found["header"] = whole.reshape(len(header), width)
    return {name: column for name, column in found.items() if column.any()}


def _say_media(batch: FrameBatch, account: Account) -> None:
    """The kind of line that the forms of its frames make each bus."""
    pairs = np.unique(batch.bus.astype(np.int64) << 8 | batch.form)
    for bus, form in ((int(pair) >> 8, int(pair) & 0xFF) for pair in pairs):
        medium = medium_of_form(form)
        if medium is not None and bus < len(account.bus_names):
            account.media.setdefault(account.bus_names[bus], medium.name)


def _numbers(column: Any, kind: Any) -> Any:
    import pyarrow as pa
    import pyarrow.compute as pc

    if pa.types.is_timestamp(column.type):
        column = column.cast(pa.timestamp("ns", column.type.tz)).cast(pa.int64())
    elif pa.types.is_floating(column.type):
        # Seconds, as tables of other programs have them.
        column = pc.round(pc.multiply(column, 1e9)).cast(pa.int64())
    return pc.fill_null(column, 0).to_numpy(zero_copy_only=False).astype(kind)


def _buses(column: Any, n: int, account: Account) -> Any:
    import pyarrow as pa

    if column is None:
        column = pa.array(["bus0"] * n, pa.string())
    words = column if pa.types.is_dictionary(column.type) else column.cast(pa.string()).dictionary_encode()
    names = [bus_name(str(name)) for name in words.dictionary.to_pylist()]
    for name in names:
        if name not in account.bus_names and len(account.bus_names) < MOST_BUSES:
            account.bus_names.append(name)
    known = account.bus_names
    index = np.array([known.index(name) if name in known else -1 for name in names] or [0], np.int64)
    if not words.null_count:
        return index[words.indices.to_numpy(zero_copy_only=False)]
    # A frame without a bus is on one of its own.
    if "bus0" not in known and len(known) < MOST_BUSES:
        known.append("bus0")
    index = np.append(index, known.index("bus0") if "bus0" in known else -1)
    return index[words.indices.fill_null(len(index) - 1).to_numpy(zero_copy_only=False)]


def _recognises(head: bytes) -> str | None:
    if head[:4] == b"PAR1":
        return "begins with the mark of a Parquet file"
    if head[:6] == b"ARROW1":
        return "begins with the mark of an Arrow file"
    if head[:4] == b"\xff\xff\xff\xff":
        return "begins like an Arrow stream"
    return None


FORMAT = Format("Arrow or Parquet table", _recognises, read)
