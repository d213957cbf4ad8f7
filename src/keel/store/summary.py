"""What is known of each identifier's frames in a stretch: all that counts, cycle times and faults are made from.

A `Summary` has one row per identifier. It is made once per chunk, written beside sealed segments, and joined to
the next by `keel.measure.census`, so that whole recordings are counted without touching their frames.

Cycle times are the times between consecutive *good* frames of one identifier: those that carry no fault of their own
and are not passed over, as remote requests are, which somebody else sends. Where the clock was set back there is no
cycle time. They are binned by `step_bin`: 512 bins per power of two, so that a percentile is right to 0.2 %.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.model.accelerated import accelerated
from keel.model.frames import FrameBatch, Mask, Rows, Times
from keel.model.identity import Keys

NEVER = np.iinfo(np.int64).min
"""A time before everything: there was no frame before."""
SHOWN_BYTES = 64
"""Changes are dated for so many bytes of a payload; what lies beyond is not shown byte by byte."""
SUB_BINS = 512
STEP_BINS = 56 * SUB_BINS
_BLOCK_BYTES = 1 << 22


@dataclass(frozen=True, eq=False)
class Summary:
    """One row per identifier; times in ns. All of shape (r,) unless said otherwise.

    Attributes:
        keys: The identifiers, ascending.
        frames: How many frames.
        first, last: The least and the greatest time.
        good: How many frames carry no fault and are no remote requests; what follows is about them.
        good_first, good_last: Times of the first and last in order of arrival; `NEVER` without any.
        last_row: The stored row of the last, -1 without any.
        flags: The flags of the last.
        least, most: The shortest and the longest cycle time; `most_at` is when the longest began.
        back, back_ns: How often the clock was set back between two of them, and by how much in all (0 or less).
        squares: The sum of squared deviations of the cycle times from their mean, which is
            ``(good_last - good_first - back_ns) / (good - 1 - back)``.
        changes: How often the payload differed from the one before.
        first_size, last_size, first_hash, last_hash: Length and hash of the first and last payload.
        first_head, last_head: Their first bytes, shape (r, w), w at most `SHOWN_BYTES`.
        changed_at: When each of these bytes last changed, 0 for never; shape (r, w).
        faulty, fault_mask: How many frames carry a fault, and which faults occur.
        flag_mask: Which flags occur.
        bits, fast_bits: Bits on the wire, at the arbitration and at the data rate; of all frames.
        bin_starts, bins, bin_counts: Cycle times by `step_bin`: run i has ``bins[bin_starts[i]:bin_starts[i + 1]]``.
    """

    keys: Keys
    frames: Rows
    first: Times
    last: Times
    good: Rows
    good_first: Times
    good_last: Times
    last_row: Rows
    flags: npt.NDArray[np.uint16]
    least: Times
    most: Times
    most_at: Times
    back: Rows
    back_ns: Times
    squares: npt.NDArray[np.float64]
    changes: Rows
    first_size: Rows
    last_size: Rows
    first_hash: Keys
    last_hash: Keys
    first_head: npt.NDArray[np.uint8]
    last_head: npt.NDArray[np.uint8]
    changed_at: Times
    faulty: Rows
    fault_mask: npt.NDArray[np.uint64]
    flag_mask: npt.NDArray[np.uint16]
    bits: Rows
    fast_bits: Rows
    bin_starts: Rows
    bins: npt.NDArray[np.uint16]
    bin_counts: Rows

    def __len__(self) -> int:
        return len(self.keys)

    def arrays(self) -> dict[str, Any]:
        """All columns by name."""
        return {f.name: getattr(self, f.name) for f in fields(self)}

    def take(self, runs: Any) -> Summary:
        """Some of the rows."""
        runs = np.asarray(runs, np.int64)
        sizes = np.diff(self.bin_starts)[runs]
        starts = np.zeros(len(runs) + 1, np.int64)
        np.cumsum(sizes, out=starts[1:])
        index = np.arange(int(starts[-1])) + np.repeat(self.bin_starts[runs] - starts[:-1], sizes)
        ragged = {"bin_starts": starts, "bins": self.bins[index], "bin_counts": self.bin_counts[index]}
        return Summary(**{n: ragged[n] if n in ragged else a[runs] for n, a in self.arrays().items()})


_KINDS: dict[str, Any] = {"flags": np.uint16, "flag_mask": np.uint16, "fault_mask": np.uint64}
_KINDS |= {"squares": np.float64, "keys": np.uint64, "first_hash": np.uint64, "last_hash": np.uint64}
_WIDE = {"first_head": np.uint8, "last_head": np.uint8, "changed_at": np.int64}
_RAGGED = ("bin_starts", "bins", "bin_counts")


def blank(keys: Keys, width: int) -> dict[str, Any]:
    """Columns to fill in, without the ragged ones."""
    columns: dict[str, Any] = {}
    for field in fields(Summary):
        if field.name in _WIDE:
            columns[field.name] = np.zeros((len(keys), width), _WIDE[field.name])
        elif field.name not in _RAGGED:
            columns[field.name] = np.zeros(len(keys), _KINDS.get(field.name, np.int64))
    columns["keys"][:] = keys
    for name in ("first", "last", "good_first", "good_last"):
        columns[name][:] = NEVER
    columns["last_row"][:] = -1
    return columns


def step_bin(steps: Any) -> npt.NDArray[np.uint16]:
    """The bin of each cycle time in ns: exact under 1024, then 512 to a power of two; negative ones go to 0."""
    steps = np.clip(np.asarray(steps, np.int64), 0, (1 << 62) - 1)
    # frexp of an exact power-of-two scaling: the leading ten bits decide, so rounding cannot reach them.
    shift = np.zeros(len(steps), np.int64)
    rest = steps >> 10
    for width in (32, 16, 8, 4, 2, 1):
        high = rest >> width != 0
        shift += np.where(high, width, 0)
        rest = np.where(high, rest >> width, rest)
    shift += np.where(rest > 0, 1, 0)
    bins: npt.NDArray[np.uint16] = np.minimum(shift * SUB_BINS + (steps >> shift), STEP_BINS - 1).astype(np.uint16)
    return bins


def bin_edges(bins: Any) -> tuple[Times, Times]:
    """The least cycle time in each bin, and the least beyond it."""
    bins = np.asarray(bins, np.int64)
    shift = np.maximum(bins // SUB_BINS - 1, 0)
    low = (bins - shift * SUB_BINS) << shift
    return low, low + (np.int64(1) << shift)


def widest(offsets: Any, low: int = 0, high: int | None = None) -> int:
    """The longest payload, at most `SHOWN_BYTES`."""
    sizes = np.diff(offsets[low : None if high is None else high + 1])
    return min(int(sizes.max()), SHOWN_BYTES) if len(sizes) else 0


@accelerated("keel.store.summing")
def summarise(batch: FrameBatch, keys: Keys, lows: Rows, highs: Rows, wanted: Mask | None = None) -> Summary:
    """Summarise runs of clustered rows.

    Args:
        batch: Stored rows.
        keys: The identifier of each run, shape (r,).
        lows, highs: Where its rows begin and end, shape (r,).
        wanted: Which stored rows count, shape (n,); None for all.
    """
    columns = blank(keys, widest(batch.offsets))
    starts, bins, counts = [0], [], []
    for run, (low, high) in enumerate(zip(lows.tolist(), highs.tolist(), strict=True)):
        rows = np.arange(low, high)
        if wanted is not None:
            rows = rows[wanted[low:high]]
        steps = _fill(columns, run, batch, rows) if len(rows) else np.zeros(0, np.int64)
        found, count = np.unique(step_bin(steps), return_counts=True)
        bins.append(found)
        counts.append(count.astype(np.int64))
        starts.append(starts[-1] + len(found))
    return Summary(
        **columns,
        bin_starts=np.array(starts, np.int64),
        bins=np.concatenate(bins) if bins else np.zeros(0, np.uint16),
        bin_counts=np.concatenate(counts) if counts else np.zeros(0, np.int64),
    )


def _fill(columns: dict[str, Any], run: int, batch: FrameBatch, rows: Rows) -> Times:
    """Fill in one run; returns its cycle times."""

    def put(**values: Any) -> None:
        for name, value in values.items():
            columns[name][run] = value

    times, faults, flags = batch.time[rows], batch.faults[rows], batch.flags[rows]
    put(frames=len(rows), first=times.min(), last=times.max(), flag_mask=np.bitwise_or.reduce(flags))
    put(faulty=np.count_nonzero(faults), fault_mask=np.bitwise_or.reduce(faults))
    good = rows[batch.is_good(rows)]
    put(bits=batch.bits[rows].sum(dtype=np.int64), fast_bits=batch.fast_bits[rows].sum(dtype=np.int64))
    if not len(good):
        return np.zeros(0, np.int64)
    times = batch.time[good]
    put(good=len(good), good_first=times[0], good_last=times[-1], last_row=good[-1], flags=batch.flags[good[-1]])
    first, last = batch.payload(int(good[0])), batch.payload(int(good[-1]))
    put(first_size=len(first), last_size=len(last), first_hash=hash_of(first), last_hash=hash_of(last))
    width = columns["first_head"].shape[1]
    for name, payload in (("first_head", first), ("last_head", last)):
        head = np.frombuffer(payload[:width], np.uint8)
        columns[name][run, : len(head)] = head
    if len(good) == 1:
        return np.zeros(0, np.int64)
    changes, latest = _changes(batch, good, times)
    put(changes=changes)
    columns["changed_at"][run, : min(len(latest), width)] = latest[:width]
    between: Times = np.diff(times)
    ahead = between >= 0
    put(back=np.count_nonzero(~ahead), back_ns=between[~ahead].sum())
    steps: Times = between[ahead]
    if len(steps):
        longest = int(np.argmax(steps))
        put(least=steps.min(), most=steps[longest], most_at=times[:-1][ahead][longest])
        put(squares=np.square(steps - steps.mean()).sum())
    return steps


def _changes(batch: FrameBatch, rows: Rows, times: Times) -> tuple[int, Times]:
    """How often the payload changed from one row to the next, and when each of its first bytes did last."""
    starts = batch.offsets[rows].astype(np.int64)
    sizes = batch.offsets[rows + 1].astype(np.int64) - starts
    width = int(sizes.max())
    latest = np.zeros(min(width, SHOWN_BYTES), np.int64)
    differs = np.diff(sizes) != 0
    step = max(_BLOCK_BYTES // max(width, 1), 1)
    for low in range(0, len(rows) - 1 if width else 0, step):
        high = min(low + step, len(rows) - 1)
        at = np.arange(width)
        index = starts[low : high + 1, None] + at
        payloads = batch.data[np.minimum(index, len(batch.data) - 1)].astype(np.int16)
        payloads[at >= sizes[low : high + 1, None]] = -1
        moved = payloads[1:] != payloads[:-1]
        differs[low:high] |= moved.any(axis=1)
        shown = moved[:, : len(latest)]
        last = len(shown) - 1 - np.argmax(shown[::-1], axis=0)
        latest = np.where(shown.any(axis=0), times[low + 1 : high + 1][last], latest)
    return int(np.count_nonzero(differs)), latest


def hash_of(payload: bytes) -> int:
    """FNV-1a of 64 bits. Source: Fowler, Noll and Vo; draft-eastlake-fnv."""
    value = 0xCBF29CE484222325
    for byte in payload:
        value = (value ^ byte) * 0x100000001B3 & 0xFFFFFFFFFFFFFFFF
    return value
