"""How often the hunt is right, on random vehicles it has not seen; and how long it takes.

``python -m benchmarks.pinpoint --first 200 --vehicles 20`` prints the table. Nothing was tuned on seeds from 200 on.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable, Iterator

import numpy as np

from benchmarks.vehicles.comparing import against_trials
from benchmarks.vehicles.judging import structure_scores
from benchmarks.vehicles.trials import Trial, marks_trials, readings_trials, series_trials
from benchmarks.vehicles.vehicle import Vehicle, vehicle
from keel.hunt.scene import Traffic

ASKED = {
    "marks": "first 0.95, three 0.98",
    "readings": "first 0.80, three 0.93, scale 0.65",
    "series": "first 0.92, three 0.98, scale 0.82",
    "against": "first 0.92, three 0.99",
}


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--first", type=int, default=200)
    parser.add_argument("--vehicles", type=int, default=20)
    parser.add_argument("--evidence", default="marks,readings,series,against")
    given = parser.parse_args()
    kinds: dict[str, Callable[[Vehicle, Traffic], Iterator[Trial]]] = {
        "marks": marks_trials,
        "readings": readings_trials,
        "series": series_trials,
        "against": against_trials,
    }
    trials: dict[str, list[Trial]] = {kind: [] for kind in given.evidence.split(",")}
    spent = dict.fromkeys([*trials, "structure"], 0.0)
    score, frames = np.zeros(7), 0
    for seed in range(given.first, given.first + given.vehicles):
        made = vehicle(seed)
        frames += sum(len(c.times) for c in made.columns.values())
        begin = time.perf_counter()
        traffic = Traffic.of(made.columns)
        spent["structure"] += time.perf_counter() - begin
        score += structure_scores(made, traffic.structures)
        for kind, found in trials.items():
            begin = time.perf_counter()
            found += list(kinds[kind](made, traffic))
            spent[kind] += time.perf_counter() - begin
        print(f"vehicle {seed} done", flush=True)
    print(f"\n{given.vehicles} vehicles, seeds from {given.first}, {frames / 1e6:.1f} million frames")
    precision, recall = score[0] / score[1], score[0] / score[2]
    f1 = 2 * precision * recall / (precision + recall)
    whole, kind_share = score[3] / score[4], score[5] / score[6]
    print(
        f"structure  boundary F1 {f1:.3f}, whole fields {whole:.3f}, kinds {kind_share:.3f}"
        f"   (asked 0.95, 0.85, 0.93)   {spent['structure'] / given.vehicles:.1f} s a vehicle"
    )
    for kind, found in trials.items():
        there, absent = [t for t in found if t.there], [t for t in found if not t.there]
        shares = f"first {_share(t.rank == 0 for t in there):.3f}, three {_share(t.rank < 3 for t in there):.3f}"
        if kind in ("readings", "series"):
            shares += f", scale and offset {_share(t.scaled for t in there):.3f}"
        if absent:
            shares += f"; nothing there and said so {_share(t.said_nothing for t in absent):.3f} of {len(absent)}"
            shares += f", wrongly said {_share(t.said_nothing for t in there):.3f}"
        each = spent[kind] / max(len(found), 1)
        print(f"{kind:10} {len(there)} trials: {shares}   (asked {ASKED[kind]})   {each:.2f} s each")


def _share(found: Iterator[bool]) -> float:
    return float(np.mean(list(found)))


if __name__ == "__main__":
    main()
