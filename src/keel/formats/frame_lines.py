"""Frames as lines of text, JSON or CSV. Hex is made for whole batches, not frame by frame."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache

import numpy as np

from keel.media.every import MEDIA, NO_IDENT_WRITTEN, ends_of, form_of, format_ident, headers_of, medium_for
from keel.model.bus import Bus
from keel.model.faults import fault_words
from keel.model.frames import Flag, FrameBatch, Mask
from keel.model.identity import NO_IDENT
from keel.model.safe_text import csv_cell, plain
from keel.model.units import NS_PER_S

SAID = ("ext", "fd", "brs", "esi", "dlc")
SAID_FORMS = [form.number for form in MEDIA[0].forms]
"""Of these, lines of text and JSON can be read back."""
CSV_HEADER = (
    "number", "t", "elapsed_s", "bus", "id", "ext", "dir", "kind", "fd", "brs", "esi", "len", "dlc",
    "payload", "faults", "name",
)  # fmt: skip


def kind_of(form: int, flags: int) -> str:
    """``data``, ``remote`` or ``error``, or what frames of the form are called."""
    return "error" if flags & Flag.ERROR else "remote" if flags & Flag.REMOTE else form_of(form).kind or "data"


def _payloads(batch: FrameBatch) -> Iterator[str]:
    text = batch.data.tobytes().hex().upper()
    ends = (batch.offsets * 2).tolist()
    return (text[a:b] for a, b in zip(ends[:-1], ends[1:], strict=True))


def _fields(batch: FrameBatch) -> Iterator[tuple[int, int, int, int, int, int, int, str]]:
    columns = (batch.time, batch.bus, batch.form, batch.ident, batch.flags, batch.faults, batch.dlc)
    return zip(*(c.tolist() for c in columns), _payloads(batch), strict=True)


def _sayings(buses: Sequence[Bus]) -> Callable[[int, int, int, int], Mapping[str, bool | int]]:
    """What the medium of a bus says of a frame: from its bus, form, flags and DLC."""

    @cache
    def says(bus: int, form: int, flags: int, dlc: int) -> Mapping[str, bool | int]:
        return medium_for(buses[bus], form).says(form, flags, dlc)

    return says


def json_lines(
    batch: FrameBatch, buses: Sequence[Bus], numbers: Sequence[int], more: Sequence[Mapping[str, object]] = ()
) -> Iterator[str]:
    """One JSON object a frame, without newlines. What a medium does not say is null.

    Args:
        batch: The frames.
        buses: The buses of the recording.
        numbers: The number of each frame, from 0.
        more: What else is to be said of each frame, if anything.
    """
    names, says = [plain(bus.name) for bus in buses], _sayings(buses)
    frames = zip(numbers, ends_of(batch, buses), headers_of(batch, buses), _fields(batch), strict=True)
    for place, (number, end, header, row_of) in enumerate(frames):
        time, bus, form, ident, flags, faults, dlc, payload = row_of
        said = says(bus, form, flags, dlc)
        row = {
            "number": number,
            "t": time,
            "t_end": end,
            "bus": names[bus],
            "medium": buses[bus].medium,
            "id": _ident(form, ident),
            "ext": said.get("ext"),
            "dir": "tx" if flags & Flag.TX else "rx",
            "kind": kind_of(form, flags),
            "fd": said.get("fd"),
            "brs": said.get("brs"),
            "esi": said.get("esi"),
            "len": len(payload) // 2,
            "dlc": said.get("dlc"),
            "payload": payload,
            "header": header,
            "faults": fault_words(faults) if faults else [],
        }
        yield json.dumps({**row, **more[place]} if more else row)


def _ident(form: int, ident: int) -> str | None:
    """An identifier; None for frames that have none."""
    written = format_ident(form, ident)
    return None if written == NO_IDENT_WRITTEN else written


def _bus_width(bus_names: list[str]) -> int:
    return max((len(name) for name in bus_names), default=1)


def text_titles(bus_names: list[str]) -> str:
    """The titles that stand over `text_lines`."""
    wide = _bus_width(bus_names)
    return f"{'elapsed s':>14}  {'bus' if wide > 2 else ' ':{wide}}  {'id':>8}  {'name':20}  dir len payload"


def text_lines(batch: FrameBatch, bus_names: list[str], start: int, names: dict[int, str]) -> Iterator[str]:
    """One line a frame for reading, columns aligned."""
    keys = batch.keys().tolist()
    wide = _bus_width(bus_names)
    for key, (time, bus, form, ident, flags, faults, dlc, payload) in zip(keys, _fields(batch), strict=True):
        seconds = (time - start) / NS_PER_S
        kind = kind_of(form, flags)
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
    buses: Sequence[Bus],
    start: int,
    names: dict[int, str],
    numbers: list[int],
    header: bool,
) -> str:
    """CSV rows, with a header line if asked for. Text cells hold nothing that a spreadsheet would run."""
    lines = [",".join(CSV_HEADER)] if header else []
    quoted, says = [csv_quoted(csv_cell(bus.name)) for bus in buses], _sayings(buses)
    known = {key: csv_quoted(csv_cell(name)) for key, name in names.items()}
    keys = batch.keys().tolist()
    for number, key, row in zip(numbers, keys, _fields(batch), strict=True):
        time, bus, form, ident, flags, faults, dlc, payload = row
        said = says(bus, form, flags, dlc)
        ext, fd, brs, esi, dlc_cell = ("" if said.get(name) is None else str(int(said[name])) for name in SAID)
        cells = (
            str(number), str(time), seconds_text(time - start), quoted[bus],
            _ident(form, ident) or "", ext, "tx" if flags & Flag.TX else "rx",
            kind_of(form, flags), fd, brs, esi, str(len(payload) // 2), dlc_cell, payload,
            " ".join(fault_words(faults)) if faults else "", known.get(key, ""),
        )  # fmt: skip
        lines.append(",".join(cells))
    return "".join(line + "\n" for line in lines)


def csv_quoted(cell: str) -> str:
    """A cell in quotes where it needs them: also an empty one, and one with spaces at its ends."""
    if cell and cell == cell.strip() and not any(sign in cell for sign in ',"\r\n'):
        return cell
    return '"' + cell.replace('"', '""') + '"'


def seconds_text(ns: int) -> str:
    """Nanoseconds as seconds with nine digits, exactly."""
    whole, rest = divmod(abs(ns), NS_PER_S)
    return f"{'-' if ns < 0 else ''}{whole}.{rest:09d}"


def unsaid(batch: FrameBatch) -> tuple[dict[str, Mask], dict[str, Mask]]:
    """What lines of text and JSON cannot say: by reason frames left out (none), and those that lose something."""
    flags = batch.flags
    both = np.uint16(Flag.ERROR | Flag.REMOTE)
    present = np.unique(batch.form)
    most = np.zeros(256, np.uint64)
    most[present] = [form_of(form).most for form in present.tolist()]
    has_none = batch.form == NO_IDENT
    return {}, {
        "of what line their identifier is": ~np.isin(batch.form, (*SAID_FORMS, NO_IDENT)),
        "their identifier": (has_none & (batch.ident != 0)) | (~has_none & (batch.ident > most[batch.form])),
        "that they are remote frames": (flags & both) == both,
        "their DLC": batch.dlc > 15,
    }


SPANS_HEADER = ("number", "begin_ns", "end_ns", "bus", "id", "dir", "kind", "payload", "faults")


def spans_text(batch: FrameBatch, buses: Sequence[Bus], numbers: Sequence[int], header: bool) -> str:
    """CSV rows of frames with begin and end in ns; the end is empty where it is not known. Numbers count from 1."""
    lines = [",".join(SPANS_HEADER)] if header else []
    quoted = [csv_quoted(csv_cell(bus.name)) for bus in buses]
    for number, end, row in zip(numbers, ends_of(batch, buses), _fields(batch), strict=True):
        time, bus, form, ident, flags, faults, _, payload = row
        cells = (
            str(number + 1), str(time), "" if end is None else str(end), quoted[bus], _ident(form, ident) or "",
            "tx" if flags & Flag.TX else "rx", kind_of(form, flags), payload,
            " ".join(fault_words(faults)) if faults else "",
        )  # fmt: skip
        lines.append(",".join(cells))
    return "".join(line + "\n" for line in lines)
