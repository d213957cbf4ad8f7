"""Summaries of stretches that follow one another, joined into one: all identifiers at once, without a loop."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from keel.ask.parts import Part
from keel.measure.percentiles import Bins
from keel.model.frames import Rows, Times
from keel.model.identity import Keys
from keel.store.summary import NEVER, Summary, step_bin


@dataclass(frozen=True, eq=False)
class Joined:
    """One row per identifier; see `keel.store.summary.Summary` for what the columns mean.

    Attributes:
        steps: How many cycle times there are; ``mean`` and ``squares`` are theirs. ``back`` is how often the clock
            was set back between two frames, where there is none.
        last_part, last_row: Where the newest frame without fault lies: which of ``parts``, which stored row.
        sources: For each row of ``parts``' summaries, laid end to end, the row here that it went into.
    """

    parts: tuple[Part, ...]
    keys: Keys
    frames: Rows
    first: Times
    last: Times
    good: Rows
    good_first: Times
    good_last: Times
    last_part: Rows
    last_row: Rows
    flags: Rows
    steps: Rows
    back: Rows
    mean: npt.NDArray[np.float64]
    squares: npt.NDArray[np.float64]
    least: Times
    most: Times
    most_at: Times
    changes: Rows
    faulty: Rows
    changed_at: Times
    bits: Rows
    fast_bits: Rows
    _bins: tuple[Keys, Times, Rows]

    def bins_of(self, row: int) -> Bins:
        """The cycle times of one identifier in bins."""
        keys, bins, counts = self._bins
        low, high = np.searchsorted(keys, [row, row + 1])
        found, places = np.unique(bins[low:high], return_inverse=True)
        total = np.bincount(places, counts[low:high]).astype(np.int64)
        return Bins(found, total, int(self.least[row]), int(self.most[row]))


def join(parts: Sequence[Part]) -> Joined:
    """Join the summaries of parts that follow one another."""
    summaries = [part.summary for part in parts]
    keys = _cat(summaries, "keys", np.uint64)
    part_of = np.repeat(np.arange(len(parts)), [len(s) for s in summaries]).astype(np.int64)
    unique, row_of = np.unique(keys, return_inverse=True)
    n = len(unique)

    def column(name: str, kind: Any = np.int64) -> Any:
        return _cat(summaries, name, kind)

    def total(values: Any) -> Any:
        return np.bincount(row_of, values, n).astype(np.int64) if n else np.zeros(0, np.int64)

    def extreme(ufunc: Any, values: Any, start: int) -> Any:
        out = np.full(n, start, np.int64)
        ufunc.at(out, row_of, values)
        return out

    good = column("good")
    order = np.flatnonzero(good > 0)
    order = order[np.lexsort((part_of[order], row_of[order]))]
    mine = row_of[order]
    # Neighbours in this order are stretches of one identifier that follow one another.
    same = mine[1:] == mine[:-1]
    a, b = order[:-1][same], order[1:][same]
    good_first, good_last = column("good_first"), column("good_last")
    gaps = good_first[b] - good_last[a]
    ahead = gaps >= 0
    a_step, b_step, step_gaps = a[ahead], b[ahead], gaps[ahead]
    differs, bytes_differ = _compare(summaries, part_of, a, b)
    first_of = np.concatenate([[True], ~same]) if len(order) else np.zeros(0, np.bool_)
    last_of = np.concatenate([~same, [True]]) if len(order) else np.zeros(0, np.bool_)

    def picked(values: Any, which: Any, start: Any) -> Any:
        out = np.full(n, start, values.dtype)
        out[mine[which]] = values[order[which]]
        return out

    back, back_ns = column("back"), column("back_ns")
    own = np.maximum(good - 1, 0) - back
    steps = total(own) + np.bincount(row_of[b_step], minlength=n)
    begin, end = picked(good_first, first_of, NEVER), picked(good_last, last_of, NEVER)
    set_back = np.zeros(n, np.int64)
    np.add.at(set_back, row_of, back_ns)
    np.add.at(set_back, row_of[b[~ahead]], gaps[~ahead])
    mean = np.where(steps > 0, (end - begin - set_back) / np.maximum(steps, 1), 0.0)
    squares = _squares(column("squares", np.float64), own, good_last - good_first - back_ns, mean, row_of, n)
    squares += np.bincount(row_of[b_step], np.square(step_gaps - mean[row_of[b_step]]), n)

    some = own > 0
    least, most, most_at = column("least"), column("most"), column("most_at")
    all_rows = np.concatenate([row_of[some], row_of[b_step]])
    all_least, all_most = np.concatenate([least[some], step_gaps]), np.concatenate([most[some], step_gaps])
    all_at = np.concatenate([most_at[some], good_last[a_step]])
    out_least, out_most = np.full(n, np.iinfo(np.int64).max, np.int64), np.full(n, NEVER, np.int64)
    np.minimum.at(out_least, all_rows, all_least)
    np.maximum.at(out_most, all_rows, all_most)
    longest_at = np.full(n, np.iinfo(np.int64).max, np.int64)
    is_longest = all_most == out_most[all_rows]
    np.minimum.at(longest_at, all_rows[is_longest], all_at[is_longest])
    none = steps == 0

    width = max((s.changed_at.shape[1] for s in summaries), default=0)
    changed = np.zeros((n, width), np.int64)
    np.maximum.at(changed, row_of, _widen([s.changed_at for s in summaries], width, np.int64))
    np.maximum.at(changed, row_of[b], np.where(bytes_differ, good_first[b][:, None], 0))

    bin_rows = np.repeat(row_of, np.concatenate([np.diff(s.bin_starts) for s in summaries]) if summaries else [])
    bins = np.concatenate([bin_rows, row_of[b_step]])
    places = np.concatenate([_cat(summaries, "bins", np.uint16), step_bin(step_gaps)]).astype(np.int64)
    counts = np.concatenate([_cat(summaries, "bin_counts", np.int64), np.ones(len(b_step), np.int64)])
    by_row = np.argsort(bins, kind="stable")
    return Joined(
        tuple(parts),
        unique,
        total(column("frames")),
        extreme(np.minimum, column("first"), np.iinfo(np.int64).max),
        extreme(np.maximum, column("last"), NEVER),
        total(good),
        begin,
        end,
        picked(part_of, last_of, 0),
        picked(column("last_row"), last_of, -1),
        picked(column("flags"), last_of, 0),
        steps,
        total(back) + np.bincount(row_of[b[~ahead]], minlength=n),
        mean,
        squares,
        np.where(none, 0, out_least),
        np.where(none, 0, out_most),
        np.where(none, 0, longest_at),
        total(column("changes")) + np.bincount(row_of[b[differs]], minlength=n),
        total(column("faulty")),
        changed,
        total(column("bits")),
        total(column("fast_bits")),
        (bins[by_row], places[by_row], counts[by_row]),
    )


def _cat(summaries: Sequence[Summary], name: str, kind: Any) -> Any:
    if not summaries:
        return np.zeros(0, kind)
    return np.concatenate([getattr(s, name) for s in summaries]).astype(kind, copy=False)


def _squares(squares: Any, count: Any, lengths: Any, mean: Any, row_of: Any, n: int) -> Any:
    """Squared deviations from the common mean. Source: Chan, Golub and LeVeque, 1979 (pairwise update)."""
    own = np.where(count > 0, lengths / np.maximum(count, 1), 0.0)
    return np.bincount(row_of, np.where(count > 0, squares + count * np.square(own - mean[row_of]), 0.0), n)


def _compare(summaries: Sequence[Summary], part_of: Rows, a: Rows, b: Rows) -> tuple[Any, Any]:
    """Whether the last payload of stretches ``a`` differs from the first of ``b``, and in which bytes."""
    width = max((s.first_head.shape[1] for s in summaries), default=0)
    if not len(a):
        return np.zeros(0, np.bool_), np.zeros((0, width), np.bool_)
    last, first = (_widen([getattr(s, f"{w}_head") for s in summaries], width, np.uint8) for w in ("last", "first"))
    sizes = [_cat(summaries, f"{w}_size", np.int64) for w in ("last", "first")]
    hashes = [_cat(summaries, f"{w}_hash", np.uint64) for w in ("last", "first")]
    differs = (sizes[0][a] != sizes[1][b]) | (hashes[0][a] != hashes[1][b])
    place = np.arange(width)
    has_a, has_b = place < sizes[0][a][:, None], place < sizes[1][b][:, None]
    bytes_differ = (has_a != has_b) | (has_a & has_b & (last[a] != first[b]))
    return differs, bytes_differ


def _widen(arrays: Sequence[Any], width: int, kind: Any) -> Any:
    """Arrays of rows under one another, filled up with 0 to one width."""
    out = np.zeros((sum(map(len, arrays)), width), kind)
    at = 0
    for array in arrays:
        out[at : at + len(array), : array.shape[1]] = array
        at += len(array)
    return out
