"""JSON lines: one frame an object, as ``keel frames --json`` and the export write them.

``t`` (ns since 1970) and ``payload`` (hex) must be there; what else is left out is taken for what is usual. Lines that
are no frame are counted by reason and passed over.
"""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np

from keel.formats.reader import Account, Format, read_with
from keel.lines.can import with_wire_bits
from keel.model.bus import MOST_BUSES, bus_name
from keel.model.faults import FAULT_BY_WORD
from keel.model.frames import LENGTH_TO_DLC, Bytes, Flag, FrameBatch
from keel.model.identity import IDENT_MASK, Form

NO_OBJECT, NO_FRAME = "line is no JSON object", "object is no frame: t and payload must be there"
CROWDED = f"frames of more than {MOST_BUSES} buses"
_FIELDS = ("t", "bus", "id", "ext", "dir", "kind", "fd", "brs", "esi", "dlc", "payload", "faults")


class JsonParser:
    """Reads JSON lines piece by piece."""

    def __init__(self, account: Account, where: str = "json") -> None:
        self._account = account
        self._line = 0
        self._lost = 0

    def feed(self, buffer: Bytes, final: bool) -> tuple[list[FrameBatch], int]:
        """Read whole lines; the last one of a file may lack its end."""
        raw = buffer.tobytes()
        end = len(raw) if final else raw.rfind(b"\n") + 1
        rows = self._rows(raw[:end]) if end else []
        self._line += raw[:end].count(b"\n")
        return ([self._batch(rows)] if rows else []), end

    def _rows(self, raw: bytes) -> list[tuple[Any, ...]]:
        try:
            return self._all_at_once(raw)
        except (ValueError, KeyError, TypeError, OverflowError):
            return self._one_by_one(raw)

    def _all_at_once(self, raw: bytes) -> list[tuple[Any, ...]]:
        """Every line at once, where every line is a frame; raises if one is none."""
        import pyarrow as pa
        from pyarrow import json as pj

        kinds = (pa.int64(), pa.string(), pa.string(), pa.bool_(), pa.string(), pa.string(), pa.bool_(), pa.bool_(),
                 pa.bool_(), pa.int64(), pa.string(), pa.list_(pa.string()))  # fmt: skip
        options = pj.ParseOptions(pa.schema(list(zip(_FIELDS, kinds, strict=True))), unexpected_field_behavior="ignore")
        table = pj.read_json(io.BytesIO(raw), pj.ReadOptions(block_size=max(len(raw), 1)), options)
        columns = [table.column(name).to_pylist() for name in _FIELDS]
        return [self._row(dict(zip(_FIELDS, row, strict=True))) for row in zip(*columns, strict=True)]

    def _one_by_one(self, raw: bytes) -> list[tuple[Any, ...]]:
        rows = []
        for number, line in enumerate(raw.split(b"\n")):
            if not line.strip():
                continue
            place = f"line {self._line + number + 1}"
            try:
                found = json.loads(line)
                if not isinstance(found, dict):
                    raise ValueError
            except (ValueError, RecursionError):
                self._account.skip(NO_OBJECT, place)
                continue
            try:
                rows.append(self._row(found))
            except (ValueError, KeyError, TypeError, OverflowError):
                self._account.skip(NO_FRAME, place)
        return rows

    def _row(self, found: dict[str, Any]) -> tuple[Any, ...]:
        """The columns of one frame."""
        time, payload = found["t"], bytes.fromhex(found["payload"])
        if not isinstance(time, int) or isinstance(time, bool) or not -(2**63) <= time < 2**63:
            raise ValueError("t")
        ident = found.get("id")
        number = 0 if ident is None else int(ident, 16)
        if not 0 <= number <= IDENT_MASK:
            raise ValueError("id")
        ext = found.get("ext")
        long = ext if ext is not None else number > 0x7FF or (ident is not None and len(ident) == 8)
        form = Form.NONE if ident is None else Form.EXTENDED if long else Form.BASE
        kind = found.get("kind") or ("error" if ident is None else "data")
        flags = {"data": 0, "remote": int(Flag.REMOTE), "error": int(Flag.ERROR)}[kind]
        for name, flag in (("fd", Flag.FD), ("brs", Flag.BRS), ("esi", Flag.ESI)):
            flags |= int(flag) if found.get(name) else 0
        flags |= int(Flag.TX) if found.get("dir") == "tx" else 0
        faults = 0
        for word in found.get("faults") or ():
            faults |= FAULT_BY_WORD[word]
        dlc = found.get("dlc")
        code = dlc if dlc is not None and 0 <= dlc <= 15 else int(LENGTH_TO_DLC[min(len(payload), 64)])
        return time, str(found.get("bus") or "bus0"), int(form), number, flags, faults, code, payload

    def _batch(self, rows: list[tuple[Any, ...]]) -> FrameBatch:
        names = self._account.bus_names
        for row in rows:
            name = bus_name(row[1])
            if name not in names and len(names) < MOST_BUSES:
                names.append(name)
        kept = [row for row in rows if bus_name(row[1]) in names]
        self._lost += len(rows) - len(kept)
        if self._lost:
            self._account.lose(CROWDED, f"line {self._line + 1} or later", self._lost)
        time, bus, form, ident, flags, faults, dlc, payloads = zip(*kept, strict=True) if kept else [()] * 8
        offsets = np.zeros(len(kept) + 1, np.int64)
        np.cumsum([len(p) for p in payloads], out=offsets[1:])
        zeros = np.zeros(len(kept), np.uint32)
        return with_wire_bits(
            FrameBatch(
                np.array(time, np.int64),
                np.array([names.index(bus_name(name)) for name in bus], np.uint8),
                np.array(form, np.uint8),
                np.array(ident, np.uint64),
                np.array(flags, np.uint16),
                np.array(faults, np.uint32),
                np.array(dlc, np.uint8),
                zeros,
                zeros.astype(np.uint16),
                offsets,
                np.frombuffer(b"".join(payloads), np.uint8),
            )
        )


def _recognises(head: bytes) -> str | None:
    line = head.lstrip().split(b"\n", 1)[0]
    if not line.startswith(b"{"):
        return None
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return "line 1 is an object with t and payload" if {"t", "payload"} <= found.keys() else None


FORMAT = Format(
    "JSON lines", _recognises, lambda path, account, progress: read_with(JsonParser(account), path, account, progress),
    JsonParser,
)  # fmt: skip
