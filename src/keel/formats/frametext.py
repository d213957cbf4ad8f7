"""A frame as one line of text, for what a foreign format cannot say otherwise: its columns by name.

It stands in a comment of the frame, so that other programs show it and Keel reads the frame back exactly.
"""

from __future__ import annotations

import re

import numpy as np

from keel.lines.can import with_wire_bits
from keel.model.faults import FAULT_BY_WORD, fault_words
from keel.model.frames import FrameBatch, concat, replace_columns

_LINE = re.compile(
    r"keel frame form=(\d+) ident=([0-9a-f]+) flags=(\d+) faults=([a-z0-9,-]*) dlc=(\d+) payload=((?:[0-9a-f]{2})*)"
    r"(?: header=((?:[0-9a-f]{2})*))?"
)


def frame_text(batch: FrameBatch, row: int) -> str:
    """One frame as text."""
    faults = ",".join(fault_words(int(batch.faults[row])))
    return (
        f"keel frame form={int(batch.form[row])} ident={int(batch.ident[row]):x} flags={int(batch.flags[row])} "
        f"faults={faults} dlc={int(batch.dlc[row])} payload={batch.payload(row).hex()}"
        + (f" header={batch.header[row].tobytes().hex()}" if batch.header is not None else "")
    )


def apply_frame_text(batch: FrameBatch, texts: dict[int, str]) -> FrameBatch:
    """Some frames exchanged for what their text says; time and bus stay. What does not parse stays as it was."""
    pieces: list[FrameBatch] = []
    at = 0
    for row, text in sorted(texts.items()):
        found = _LINE.fullmatch(text)
        words = [word for word in found[4].split(",") if word] if found else []
        if found is None or not all(word in FAULT_BY_WORD for word in words):
            continue
        one = batch.slice(row, row + 1)
        faults = 0
        for word in words:
            faults |= FAULT_BY_WORD[word]
        data = np.frombuffer(bytes.fromhex(found[6]), np.uint8)
        one = replace_columns(
            one,
            form=np.array([int(found[1]) & 0xFF], np.uint8),
            ident=np.array([int(found[2], 16) & (1 << 48) - 1], np.uint64),
            flags=np.array([int(found[3]) & 0xFFFF], np.uint16),
            faults=np.array([faults], np.uint32),
            dlc=np.array([int(found[5]) & 0xFF], np.uint8),
            offsets=np.array([0, len(data)], np.int64),
            data=data,
        )
        if found[7]:
            one = replace_columns(one, header=np.frombuffer(bytes.fromhex(found[7]), np.uint8).reshape(1, -1))
        pieces += [batch.slice(at, row), with_wire_bits(one)]
        at = row + 1
    return concat([*pieces, batch.slice(at, len(batch))]) if pieces else batch
