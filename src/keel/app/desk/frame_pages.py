"""Frames by the page: what a screen of them needs, fetched by rank and touching nothing else."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from keel.app.desk.picture import Picture
from keel.ask.matches import Matches
from keel.ask.narrowing import of_bus, of_key_among, of_message
from keel.errors import KeelError
from keel.model.faults import fault_words
from keel.model.frames import Bytes, Flag, FrameBatch, Rows, Times, concat
from keel.model.identity import NO_IDENT, unpack_key

MOST_BESIDE = 2
"""So many channels beside the line are shown."""
SHOWN_OF_EACH = 1 << 14
"""So many bytes of a payload are fetched for a list."""


@dataclass(frozen=True)
class Page:
    """The frames on the screen: numbers, columns, time differences in ns (-1 for none), how long payloads are, and the
    volts of channels beside the line when each begins.

    Of long payloads the batch has but the first `SHOWN_OF_EACH` bytes.
    """

    top: int
    numbers: Times
    batch: FrameBatch
    since_shown: Times
    since_same: Times
    before: list[bytes | None]
    sizes: Rows
    volts: tuple[tuple[str, list[float]], ...] = ()


def fetch(picture: Picture, top: int, count: int) -> Page:
    """A page of the matches, by rank. Touches only what it shows."""
    numbers = picture.matches.numbers(max(top - 1, 0), top + count)
    shown = numbers
    extra = 1 if top > 0 and len(numbers) else 0
    parts: list[FrameBatch] = []
    same: list[Times] = []
    sizes: list[Rows] = []
    before: list[bytes | None] = []
    snapshot = picture.snapshot
    while len(numbers):
        chunk = snapshot.chunks[snapshot.chunk_of(int(numbers[0]))]
        here = int(np.searchsorted(numbers, chunk.first + len(chunk)))
        rows = chunk.order[numbers[:here] - chunk.first].astype(np.int64)
        parts.append(chunk.batch.take(rows, SHOWN_OF_EACH))
        sizes.append((chunk.batch.offsets[rows + 1] - chunk.batch.offsets[rows]).astype(np.int64))
        same.append(chunk.since_same_key(rows))
        begins = chunk.starts[chunk.runs_of(rows)] == rows
        earlier = zip(rows.tolist(), begins, strict=True)
        before += [None if b else chunk.batch.payload(r - 1, SHOWN_OF_EACH) for r, b in earlier]
        numbers = numbers[here:]
    batch = concat(parts)
    steps = np.diff(batch.time, prepend=batch.time[:1])
    if not extra and len(steps):
        steps[0] = -1
    since = np.concatenate(same) if same else steps
    lengths = np.concatenate(sizes) if sizes else batch.lengths
    return Page(
        top,
        shown[extra:],
        batch.slice(extra, len(batch)),
        steps[extra:],
        since[extra:],
        before[extra:],
        lengths[extra:],
        _volts(picture, batch.time[extra:]),
    )


def _volts(picture: Picture, times: Times) -> tuple[tuple[str, list[float]], ...]:
    """The volts of channels beside the lines at some moments, by the name of the channel."""
    manifest = picture.snapshot.manifest
    if not manifest.lines:
        return ()
    from keel.probe.beside_channels import beside_channels, volts_at

    found = beside_channels(manifest)[:MOST_BESIDE]
    try:
        return tuple((one.name, volts_at(picture.snapshot, one, times).tolist()) for one in found)
    except KeelError:
        # Line says what is wrong with it.
        return ()


def terms_of(picture: Picture, page: Page, i: int) -> list[str]:
    """What a frame of a page says of itself, as terms of an ask."""
    batch = page.batch
    if i >= len(batch):
        return []
    bus = picture.snapshot.manifest.buses[int(batch.bus[i])].name
    key = int(batch.keys()[i])
    terms = [str(of_key_among(key, bus, picture.keys)), str(of_bus(bus))]
    if key in picture.messages:
        terms.append(str(of_message(picture.name(key))))
    terms += [f"fault:{word}" for word in fault_words(int(batch.faults[i]))]
    payload = batch.payload(i)
    has_payload = bool(payload) and unpack_key(key)[1] != NO_IDENT
    terms.append(f"len={int(page.sizes[i]) if has_payload else 0}")
    if has_payload:
        terms.append(f'bytes@0:"{payload[:8].hex(" ").upper()}"')
        terms.append(f"moved {terms[0]}")
    terms.append(f"dir:{'tx' if int(batch.flags[i]) & Flag.TX else 'rx'}")
    seconds = (int(batch.time[i]) - picture.zero) / 1e9
    terms.append(f"at:{max(seconds - 0.05, 0.0):.3f}s..{seconds + 0.05:.3f}s")
    return terms


def whole_frame(picture: Picture, number: int) -> FrameBatch:
    """A frame with all of its payload, which is not copied."""
    chunk = picture.snapshot.chunks[picture.snapshot.chunk_of(number)]
    row = int(chunk.order[number - chunk.first])
    return chunk.batch.slice(row, row + 1)


def recent(picture: Picture, number: int, most: int = 60) -> tuple[Times, Bytes]:
    """Times and payloads of a frame and those of its identifier before it in the same chunk, oldest first."""
    chunk = picture.snapshot.chunks[picture.snapshot.chunk_of(number)]
    row = int(chunk.order[number - chunk.first])
    run = int(np.searchsorted(chunk.starts, row, side="right")) - 1
    low = max(int(chunk.starts[run]), row + 1 - most)
    width = min(int(chunk.batch.offsets[row + 1] - chunk.batch.offsets[row]), SHOWN_OF_EACH)
    return chunk.batch.time[low : row + 1], chunk.batch.matrix(low, row + 1, width)


def all_matches(picture: Picture) -> Matches:
    """The matches of a picture, also of one that was shown before all frames were looked at."""
    if picture.matches.complete:
        return picture.matches
    from keel.ask.matches import Matcher

    return Matcher(picture.node, picture.scene).run(picture.snapshot, picture.wish.lens)


def next_fault(picture: Picture, here: int, forward: bool) -> int | None:
    """The number of the nearest faulty match on one side of a frame; chunks without a fault are passed by."""
    at = picture.snapshot.chunk_of(here)
    parts = picture.matches.parts[at:] if forward else tuple(reversed(picture.matches.parts[: at + 1]))
    for part in parts:
        if not part.count or not len(part.fault_rows.key):
            continue
        chunk = part.chunk
        mask = part.stored_mask()
        rows = np.flatnonzero(chunk.batch.faults)
        numbers = np.sort(chunk.arrival[rows if mask is None else rows[mask[rows]]].astype(np.int64)) + chunk.first
        numbers = numbers[numbers > here] if forward else numbers[numbers < here]
        if len(numbers):
            return int(numbers[0] if forward else numbers[-1])
    return None
