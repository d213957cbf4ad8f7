"""Traffic by bus and identifier as plain data, for commands and scripts."""

from __future__ import annotations

from typing import Any

import numpy as np

from keel.ask.matches import Matches
from keel.ask.names import names_of
from keel.measure.census import census_of
from keel.measure.load import bus_means
from keel.measure.peaks import Peak, PeakFinder, settled
from keel.media.every import NO_IDENT_WRITTEN, form_of, idents_written, medium_for
from keel.model.bus import Bus
from keel.model.identity import IDENT_BITS
from keel.model.safe_text import plain
from keel.model.units import NS_PER_S


def traffic(matches: Matches, start: int) -> dict[str, Any]:
    """Counts, cycle times and loads of the matching frames.

    Returns:
        ``start`` (when time is 0, in ns since 1970), ``buses`` and ``identifiers``: lists of rows. ``frames`` counts
        every frame, faulty ones included; cycle times and payload changes are over frames without fault that are no
        remote requests. Cycle times of fewer than two frames are None, and loads of a recording too short to have one.
    """
    snapshot = matches.snapshot
    means = bus_means(matches, snapshot.span)
    # Every frame has to be looked at for a peak: only where there can be one.
    can = any(mean.has_load for mean in means)
    found = PeakFinder().find(matches).buses if can else [Peak(0.0, 0)] * len(means)
    peaks = settled(found, means, snapshot.span)
    buses = [
        {
            "bus": plain(bus.name),
            "medium": bus.medium,
            "frames": load.frames,
            "load_mean": load.mean,
            "load_peak": peak and peak.load,
        }
        for bus, load, peak in zip(snapshot.manifest.buses, means, peaks, strict=True)
    ]
    return {"start": start, "buses": buses, "identifiers": _identifiers(matches, start)}


def _identifiers(matches: Matches, start: int) -> list[dict[str, Any]]:
    """A row for each identifier; made of columns, for there may be a hundred thousand."""
    snapshot, joined = matches.snapshot, census_of(matches).joined
    names = {key: plain(name) for key, name in names_of(snapshot).items()}
    keys = joined.keys.tolist()
    bus_of = [plain(bus.name) for bus in snapshot.manifest.buses]
    heads = (joined.keys >> np.uint64(IDENT_BITS)).tolist()
    of_head = {head: _says(snapshot.manifest.buses[head >> 8], head & 0xFF) for head in set(heads)}
    some = joined.steps > 0
    deviation = np.sqrt(np.maximum(joined.squares, 0.0) / np.maximum(joined.steps, 1))
    columns = (
        joined.frames,
        (joined.first - start) / NS_PER_S,
        (joined.last - start) / NS_PER_S,
        *(_where(some, column) for column in (joined.mean, joined.least, joined.most, deviation)),
        joined.changes,
        joined.faulty,
    )
    written = idents_written(joined.keys)
    rows = zip(keys, heads, written, *(column.tolist() for column in columns), strict=True)
    return [
        {
            "bus": bus_of[head >> 8],
            "id": None if ident == NO_IDENT_WRITTEN else ident,
            **of_head[head],
            "name": names.get(key, ""),
            "frames": frames,
            "first": first,
            "last": last,
            "cycle_mean": mean,
            "cycle_min": least,
            "cycle_max": most,
            "cycle_std": spread,
            "payload_changes": changes,
            "faults": faults,
        }
        for key, head, ident, frames, first, last, mean, least, most, spread, changes, faults in rows
    ]


def _where(some: Any, times: Any) -> Any:
    """Times in seconds; None where there is none."""
    shown = (times / NS_PER_S).astype(object)
    shown[~some] = None
    return shown


def _says(bus: Bus, form: int) -> dict[str, Any]:
    return {"role": form_of(form).role or None, "ext": medium_for(bus, form).says(form, 0, 0).get("ext")}
