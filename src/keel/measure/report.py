"""Traffic by bus and identifier as plain data, for commands and scripts."""

from __future__ import annotations

from typing import Any

from keel.ask.matches import Matches
from keel.ask.names import names_of
from keel.measure.census import census_of, seconds
from keel.measure.load import bus_means
from keel.measure.peaks import PeakFinder, settled
from keel.media.every import form_of, format_ident, medium_of
from keel.model.identity import NO_IDENT, unpack_key
from keel.model.safe_text import plain


def traffic(matches: Matches, start: int) -> dict[str, Any]:
    """Counts, cycle times and loads of the matching frames.

    Returns:
        ``start`` (ns since 1970), ``buses`` and ``identifiers``: lists of rows. ``frames`` counts every frame,
        faulty ones included; cycle times and payload changes are over frames without fault that are no remote
        requests. Cycle times of fewer than two frames are None, and loads of a recording too short to have one.
    """
    snapshot = matches.snapshot
    names = names_of(snapshot)
    means = bus_means(matches, snapshot.span)
    peaks = settled(PeakFinder().find(matches).buses, means, snapshot.span)
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
    rows = []
    for key, tally in census_of(matches).items():
        bus, form, ident = unpack_key(key)
        cycle = tally.cycle
        some = cycle.count > 0
        rows.append(
            {
                "bus": plain(snapshot.manifest.buses[bus].name),
                "id": None if form == NO_IDENT else format_ident(form, ident),
                "role": form_of(form).role or None,
                "ext": medium_of(snapshot.manifest.buses[bus]).says(form, 0, 0).get("ext"),
                "name": plain(names.get(key, "")),
                "frames": tally.frames,
                "first": seconds(tally.first - start),
                "last": seconds(tally.last - start),
                "cycle_mean": seconds(cycle.mean) if some else None,
                "cycle_min": seconds(cycle.least) if some else None,
                "cycle_max": seconds(cycle.most) if some else None,
                "cycle_std": seconds(cycle.deviation) if some else None,
                "payload_changes": tally.changes,
                "faults": tally.faults,
            }
        )
    return {"start": start, "buses": buses, "identifiers": rows}
