"""`keel.store.summary.summarise`, compiled: one pass over times and payloads, eight bytes at a time."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from keel.model.faults import SPOILS_NOTHING
from keel.model.frames import FrameBatch, Mask, Rows
from keel.model.identity import Keys
from keel.model.words64 import leading_zeros, load_word, tail_word
from keel.store.summary import NEVER, STEP_BINS, SUB_BINS, Summary, blank, widest

_NOTHING = np.zeros(0, np.bool_)
BLOCK_ROWS = 512
_NAMES = (
    "frames", "first", "last", "good", "good_first", "good_last", "last_row", "flags", "least", "most", "most_at",
    "back", "back_ns", "squares", "changes", "first_size", "last_size", "first_hash", "last_hash", "first_head",
    "last_head", "changed_at", "faulty", "fault_mask", "flag_mask", "bits", "fast_bits",
)  # fmt: skip


@njit(cache=True, nogil=True, inline="always")
def bin_of(step: Any) -> Any:
    """The bin of one cycle time; see `keel.store.summary.step_bin`."""
    if step < 0:
        return 0
    shift = max(54 - leading_zeros(np.uint64(step)), 0)
    return min(shift * SUB_BINS + (step >> shift), STEP_BINS - 1)


@njit(cache=True, nogil=True)
def _hash(data: Any, start: Any, end: Any) -> Any:
    value = np.uint64(0xCBF29CE484222325)
    for k in range(start, end):
        value = (value ^ np.uint64(data[k])) * np.uint64(0x100000001B3)
    return value


@njit(cache=True, nogil=True)
def _join(data: Any, a: Any, size_a: Any, b: Any, size_b: Any, now: Any, changed: Any, ends: Any) -> bool:
    """Compare two payloads of any sizes, dating the bytes that differ; returns whether any does."""
    both, most = min(size_a, size_b), max(size_a, size_b)
    differs = size_a != size_b
    for k in range(most):
        if k >= both or data[a + k] != data[b + k]:
            differs = True
            if k < len(changed):
                changed[k] = now
                ends[k] = 0
    return differs


@njit(cache=True, nogil=True)
def _alike(data: Any, start: Any, low: Any, high: Any, size: Any, begins: Any, ends: Any) -> int:
    """Changes among payloads of one size that lie end to end; rows ``low`` to ``high``, the first at ``start``.

    For each byte that changed, ``begins`` and ``ends`` get the block of rows in which it did last.
    """
    words, tail = size >> 3, size & 7
    gathered = np.zeros(9, np.uint64)
    changes = 0
    row = low + 1
    while row < high:
        stop = min(row + BLOCK_ROWS, high)
        at = start + size * (row - low)
        if size == 8:
            before, union = load_word(data, at - 8), np.uint64(0)
            for i in range(stop - row):
                now = load_word(data, at + 8 * i)
                moved = now ^ before
                union |= moved
                changes += moved != 0
                before = now
            gathered[0] = union
        else:
            for i in range(stop - row):
                b = at + size * i
                a = b - size
                differs = np.uint64(0)
                for k in range(words):
                    moved = load_word(data, a + 8 * k) ^ load_word(data, b + 8 * k)
                    gathered[min(k, 8)] |= moved
                    differs |= moved
                if tail:
                    moved = tail_word(data, a + 8 * words, b) ^ tail_word(data, b + 8 * words, b + size)
                    gathered[min(words, 8)] |= moved
                    differs |= moved
                changes += differs != 0
        for k in range(min(words + 1, 8)):
            for b in range(8):
                if gathered[k] >> np.uint64(8 * b) & np.uint64(0xFF):
                    begins[8 * k + b], ends[8 * k + b] = row, stop
            gathered[k] = 0
        gathered[8] = 0
        row = stop
    return changes


@njit(cache=True, nogil=True)
def _date(time: Any, offsets: Any, data: Any, begins: Any, ends: Any, changed: Any) -> None:
    """Find, in the block where it changed last, when each byte did."""
    for k in range(len(changed)):
        row = ends[k] - 1
        if row < 0:
            continue
        while row > begins[k] and data[offsets[row] + k] == data[offsets[row - 1] + k]:
            row -= 1
        changed[k] = time[row]


@njit(cache=True, nogil=True, fastmath={"reassoc"})
def _totals(flags: Any, bits: Any, fast: Any, low: Any, high: Any) -> Any:
    """What a stretch adds up to."""
    flag_mask = np.uint16(0)
    bits_sum = fast_sum = np.int64(0)
    for row in range(low, high):
        flag_mask |= flags[row]
        bits_sum += bits[row]
        fast_sum += fast[row]
    return flag_mask, bits_sum, fast_sum


@njit(cache=True, nogil=True, fastmath={"reassoc"})
def _squares(time: Any, skip: Any, low: Any, high: Any, wanted: Any, mean: Any, every: Any) -> float:
    """Squared deviations from the mean, which is known by now: a second pass loses no digits."""
    total = 0.0
    if every:
        for row in range(low + 1, high):
            away = (time[row] - time[row - 1]) - mean
            total += away * away
        return total
    before = np.int64(-1)
    for row in range(low, high):
        if skip[row] == 0 and (len(wanted) == 0 or wanted[row]):
            if before >= 0 and time[row] >= time[before]:
                away = (time[row] - time[before]) - mean
                total += away * away
            before = row
    return total


@njit(cache=True, nogil=True)
def _summarise(time: Any, faults: Any, harmless: Any, skip: Any, flags: Any, bits: Any, fast: Any, offsets: Any,
               data: Any, lows: Any, highs: Any, wanted: Any, out: Any, bin_starts: Any) -> Any:  # fmt: skip
    (o_frames, o_first, o_last, o_good, o_good_first, o_good_last, o_last_row, o_flags, o_least, o_most, o_most_at,
     o_back, o_back_ns, o_squares, o_changes, o_first_size, o_last_size, o_first_hash, o_last_hash, o_first_head,
     o_last_head, o_changed, o_faulty, o_fault_mask, o_flag_mask, o_bits, o_fast_bits) = out  # fmt: skip
    bins, counts = np.empty(1024, np.uint16), np.empty(1024, np.int64)
    dense = np.zeros(STEP_BINS, np.int64)
    begins, ends = np.zeros(72, np.int64), np.zeros(72, np.int64)
    used = 0
    width = o_first_head.shape[1]
    some = len(wanted) > 0
    for run in range(len(lows)):
        low, high = lows[run], highs[run]
        frames = good = faulty = changes = 0
        before = first_row = np.int64(-1)
        first, last = np.iinfo(np.int64).max, NEVER
        least, most, most_at = np.iinfo(np.int64).max, NEVER, np.int64(0)
        fault_mask, flag_mask = np.uint64(0), np.uint16(0)
        bits_sum = fast_sum = np.int64(0)
        back = 0
        back_ns = np.int64(0)
        lowest, highest = STEP_BINS, -1
        ends[:] = 0
        row = low
        while row < high:
            if some and not wanted[row]:
                row += 1
                continue
            if skip[row]:
                frames += 1
                faulty += faults[row] != 0
                fault_mask |= faults[row]
                flag_mask |= flags[row]
                bits_sum += bits[row]
                fast_sum += fast[row]
                first, last = min(first, time[row]), max(last, time[row])
                row += 1
                continue
            # A stretch of good frames of one size: what is said of it is said in bulk.
            start = np.int64(offsets[row])
            size = np.int64(offsets[row + 1]) - start
            end = row + 1
            while (end < high and skip[end] == 0 and (not some or wanted[end])
                   and np.int64(offsets[end + 1]) - np.int64(offsets[end]) == size):  # fmt: skip
                end += 1
            if before >= 0:
                a = np.int64(offsets[before])
                if _join(data, a, np.int64(offsets[before + 1]) - a, start, size, time[row], o_changed[run], ends):
                    changes += 1
            else:
                first_row = row
            earlier = before
            for i in range(row, end):
                now = time[i]
                first, last = min(first, now), max(last, now)
                if earlier >= 0:
                    step = now - time[earlier]
                    if step < 0:
                        back += 1
                        back_ns += step
                    else:
                        if step > most:
                            most, most_at = step, time[earlier]
                        least = min(least, step)
                        place = bin_of(step)
                        dense[place] += 1
                        lowest, highest = min(lowest, place), max(highest, place)
                earlier = i
            changes += _alike(data, start, row, end, size, begins, ends)
            stretch_flags, stretch_bits, stretch_fast = _totals(flags, bits, fast, row, end)
            flag_mask |= stretch_flags
            bits_sum += stretch_bits
            fast_sum += stretch_fast
            if harmless:
                for i in range(row, end):
                    faulty += faults[i] != 0
                    fault_mask |= faults[i]
            frames += end - row
            good += end - row
            before = end - 1
            row = end
        o_frames[run], o_good[run], o_faulty[run], o_changes[run] = frames, good, faulty, changes
        o_fault_mask[run], o_flag_mask[run] = fault_mask, flag_mask
        o_bits[run], o_fast_bits[run] = bits_sum, fast_sum
        if frames:
            o_first[run], o_last[run] = first, last
        if good:
            o_good_first[run], o_good_last[run], o_last_row[run] = time[first_row], time[before], before
            o_flags[run] = flags[before]
            for place, sizes, hashes, heads in (
                (first_row, o_first_size, o_first_hash, o_first_head), (before, o_last_size, o_last_hash, o_last_head)
            ):  # fmt: skip
                start, end = np.int64(offsets[place]), np.int64(offsets[place + 1])
                sizes[run] = end - start
                hashes[run] = _hash(data, start, end)
                for k in range(min(end - start, width)):
                    heads[run, k] = data[start + k]
            _date(time, offsets, data, begins, ends, o_changed[run])
        o_back[run], o_back_ns[run] = back, back_ns
        if good > 1 + back:
            o_least[run], o_most[run], o_most_at[run] = least, most, most_at
            mean = (time[before] - time[first_row] - back_ns) / (good - 1 - back)
            o_squares[run] = _squares(time, skip, low, high, wanted, mean, good == frames and back == 0 and not some)
        for place in range(lowest, highest + 1):
            if dense[place]:
                if used == len(bins):
                    bins = np.concatenate((bins, np.empty(used, np.uint16)))
                    counts = np.concatenate((counts, np.empty(used, np.int64)))
                bins[used], counts[used] = place, dense[place]
                dense[place] = 0
                used += 1
        bin_starts[run + 1] = used
    return bins[:used].copy(), counts[:used].copy()


def summarise(batch: FrameBatch, keys: Keys, lows: Rows, highs: Rows, wanted: Mask | None = None) -> Summary:
    """As `keel.store.summary.summarise`."""
    columns = blank(keys, widest(batch.offsets))
    starts = np.zeros(len(keys) + 1, np.int64)
    bins, counts = _summarise(
        batch.time,
        batch.faults,
        bool((batch.faults & batch.faults.dtype.type(SPOILS_NOTHING)).any()),
        batch.passed_over(),
        batch.flags,
        batch.bits,
        batch.fast_bits,
        batch.offsets,
        batch.data,
        np.ascontiguousarray(lows, np.int64),
        np.ascontiguousarray(highs, np.int64),
        _NOTHING if wanted is None else wanted,
        tuple(columns[name] for name in _NAMES),
        starts,
    )
    return Summary(**columns, bin_starts=starts, bins=bins, bin_counts=counts)
