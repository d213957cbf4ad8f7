"""Frames as lines of text, JSON or CSV. Hex is made for whole batches, not frame by frame."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator

from keel.model.faults import fault_words
from keel.model.frames import Flag, FrameBatch
from keel.model.identity import Form, format_ident
from keel.model.plain import csv_cell, plain
from keel.model.units import NS_PER_S

CSV_HEADER = (
    "number", "t", "elapsed_s", "bus", "id", "ext", "dir", "kind", "fd", "brs", "esi", "len", "dlc",
    "payload", "faults", "name",
)  # fmt: skip


def kind_of(flags: int) -> str:
    """``data``, ``remote`` or ``error``."""
    return "error" if flags & Flag.ERROR else "remote" if flags & Flag.REMOTE else "data"


def _payloads(batch: FrameBatch) -> Iterator[str]:
    text = batch.data.tobytes().hex().upper()
    ends = (batch.offsets * 2).tolist()
    return (text[a:b] for a, b in zip(ends[:-1], ends[1:], strict=True))


def _fields(batch: FrameBatch) -> Iterator[tuple[int, int, int, int, int, int, int, str]]:
    columns = (batch.time, batch.bus, batch.form, batch.ident, batch.flags, batch.faults, batch.dlc)
    return zip(*(c.tolist() for c in columns), _payloads(batch), strict=True)


def json_lines(batch: FrameBatch, bus_names: list[str]) -> Iterator[str]:
    """One JSON object a frame, without newlines."""
    for time, bus, form, ident, flags, faults, dlc, payload in _fields(batch):
        row = {
            "t": time,
            "bus": plain(bus_names[bus]),
            "id": None if form == Form.NONE else format_ident(form, ident),
            "ext": form == Form.EXTENDED,
            "dir": "tx" if flags & Flag.TX else "rx",
            "kind": kind_of(flags),
            "fd": bool(flags & Flag.FD),
            "brs": bool(flags & Flag.BRS),
            "esi": bool(flags & Flag.ESI),
            "len": len(payload) // 2,
            "dlc": dlc,
            "payload": payload,
            "faults": fault_words(faults) if faults else [],
        }
        yield json.dumps(row)


def text_lines(batch: FrameBatch, bus_names: list[str], start: int, names: dict[int, str]) -> Iterator[str]:
    """One line a frame for reading, columns aligned."""
    keys = batch.keys().tolist()
    wide = max((len(name) for name in bus_names), default=1)
    for key, (time, bus, form, ident, flags, faults, dlc, payload) in zip(keys, _fields(batch), strict=True):
        seconds = (time - start) / NS_PER_S
        kind = kind_of(flags)
        shown = " ".join(payload[i : i + 2] for i in range(0, len(payload), 2))
        if kind == "remote":
            shown = f"remote, DLC {dlc}"
        if faults:
            shown = f"✕ {', '.join(fault_words(faults))}  {shown}".rstrip()
        name = plain(names.get(key, ""), 20)
        yield (
            f"{seconds:14.6f}  {plain(bus_names[bus]):{wide}}  {format_ident(form, ident):>8}  {name:20}  "
            f"{'tx' if flags & Flag.TX else 'rx'}  {len(payload) // 2:2}  {shown}"
        ).rstrip()


def csv_text(
    batch: FrameBatch,
    bus_names: list[str],
    start: int,
    names: dict[int, str],
    numbers: list[int],
    header: bool,
) -> str:
    """CSV rows, with a header line if asked for. Text cells hold nothing that a spreadsheet would run."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    if header:
        writer.writerow(CSV_HEADER)
    keys = batch.keys().tolist()
    for number, key, row in zip(numbers, keys, _fields(batch), strict=True):
        time, bus, form, ident, flags, faults, dlc, payload = row
        writer.writerow(
            (
                number, time, f"{(time - start) / NS_PER_S:.9f}", csv_cell(bus_names[bus]),
                "" if form == Form.NONE else format_ident(form, ident), int(form == Form.EXTENDED),
                "tx" if flags & Flag.TX else "rx", kind_of(flags), int(bool(flags & Flag.FD)),
                int(bool(flags & Flag.BRS)), int(bool(flags & Flag.ESI)), len(payload) // 2, dlc, payload,
                " ".join(fault_words(faults)), csv_cell(names.get(key, "")),
            )
        )  # fmt: skip
    return out.getvalue()
