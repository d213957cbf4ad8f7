"""How often the hunt is right, on random vehicles it has not seen; and how long it takes.

``python -m benchmarks.pinpoint --first 600 --vehicles 20`` prints the tables. Nothing was tuned on seeds from 600 on.
"""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable, Iterator
from multiprocessing import Pool

import numpy as np

from benchmarks.vehicles.comparing import against_trials
from benchmarks.vehicles.judging import structure_scores
from benchmarks.vehicles.trials import Trial, marks_trials, readings_trials, series_trials
from benchmarks.vehicles.vehicle import Vehicle, vehicle
from keel.hunt.traffic import Traffic

ASKED = {
    "marks": "first 0.95, three 0.98",
    "readings": "first 0.90, three 0.95, scale 0.85",
    "series": "first 0.95, three 0.98, scale 0.90",
    "against": "first 0.92, three 0.99",
}
KINDS: dict[str, Callable[[Vehicle, Traffic], Iterator[Trial]]] = {
    "marks": marks_trials,
    "readings": readings_trials,
    "series": series_trials,
    "against": against_trials,
}
MANY = 3
Answers = tuple[dict[str, list[Trial]], dict[str, float], np.ndarray[tuple[int], np.dtype[np.float64]]]


def try_vehicle(given: tuple[int, list[str]]) -> Answers:
    """All trials of one vehicle, what each kind took, and how well its structure was seen."""
    seed, kinds = given
    made = vehicle(seed)
    begin = time.perf_counter()
    traffic = Traffic.of(made.columns)
    spent = {"structure": time.perf_counter() - begin}
    trials = {}
    for kind in kinds:
        begin = time.perf_counter()
        trials[kind] = list(KINDS[kind](made, traffic))
        spent[kind] = time.perf_counter() - begin
    return trials, spent, structure_scores(made, traffic.structures)


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--first", type=int, default=600)
    parser.add_argument("--vehicles", type=int, default=20)
    parser.add_argument("--evidence", default="marks,readings,series,against")
    parser.add_argument("--processes", type=int, default=2)
    given = parser.parse_args()
    kinds = given.evidence.split(",")
    seeds = range(given.first, given.first + given.vehicles)
    with Pool(given.processes) as pool:
        answers = []
        for answer in pool.imap_unordered(try_vehicle, [(seed, kinds) for seed in seeds]):
            answers.append(answer)
            print(f"{len(answers)} of {given.vehicles} vehicles done", flush=True)
    print(f"\n{given.vehicles} vehicles, seeds from {given.first}")
    _structure(np.sum([score for _, _, score in answers], axis=0))
    spent = {kind: sum(took[kind] for _, took, _ in answers) for kind in ["structure", *kinds]}
    for kind in kinds:
        trials = [trial for found, _, _ in answers for trial in found[kind]]
        _ranks(kind, trials, spent[kind])
    for kind in kinds:
        if kind != "against":
            _verdicts(kind, [trial for found, _, _ in answers for trial in found[kind]])


def _structure(score: np.ndarray[tuple[int], np.dtype[np.float64]]) -> None:
    precision, recall = score[0] / score[1], score[0] / score[2]
    f1 = 2 * precision * recall / (precision + recall)
    whole, kinds = score[3] / score[4], score[5] / score[6]
    print(f"structure  boundary F1 {f1:.3f}, whole fields {whole:.3f}, kinds {kinds:.3f}   (asked 0.95, 0.85, 0.93)")


def _ranks(kind: str, trials: list[Trial], spent: float) -> None:
    """How often the right field is first, or among the first three; few marks apart."""
    there = [t for t in trials if t.there]
    many = [t for t in there if not t.amount or t.amount >= MANY]
    words = f"first {_share(t.rank == 0 for t in many):.3f}, three {_share(t.rank < 3 for t in many):.3f}"
    if kind in ("readings", "series"):
        words += f", scale and offset {_share(t.scaled for t in many):.3f}"
    print(f"{kind:10} {len(many)} trials: {words}   (asked {ASKED[kind]})   {spent / max(len(trials), 1):.2f} s each")
    few = [t for t in there if t.amount and t.amount < MANY]
    if few:
        print(f"{'':10} {len(few)} of one or two spans: three {_share(t.rank < 3 for t in few):.3f}   (asked 0.85)")


def _verdicts(kind: str, trials: list[Trial]) -> None:
    """Verdicts by what there was and how much of it."""
    there, absent = [t for t in trials if t.there], [t for t in trials if not t.there]
    wrong = sum(t.verdict == "nothing" for t in there), sum(t.verdict == "found" and t.rank > 2 for t in there)
    invented = sum(t.verdict == "found" for t in absent)
    print(f"\n{kind}: wrong “nothing” {wrong[0]} of {len(there)}, wrong “found” {wrong[1]} of {len(there)}", end="")
    print(f" and {invented} of {len(absent)} where nothing is there   (asked under 2 % each)")
    groups = sorted({(t.there, t.shape, t.amount if t.shape != "by itself" else 0) for t in trials})
    print(f"{'':4}{'':12}{'spans':>6}{'trials':>8}{'found':>8}{'undecided':>11}{'nothing':>9}{'first':>8}{'three':>8}")
    for is_there, shape, amount in groups:
        mine = [
            t
            for t in trials
            if (t.there, t.shape) == (is_there, shape) and (t.amount == amount or shape == "by itself")
        ]
        counts = [sum(t.verdict == verdict for t in mine) for verdict in ("found", "undecided", "nothing")]
        name = shape or ("there" if is_there else "not there")
        places = f"{_share(t.rank == 0 for t in mine):8.2f}{_share(t.rank < 3 for t in mine):8.2f}" if is_there else ""
        print(f"{'':4}{name:12}{amount or '':>6}{len(mine):>8}{counts[0]:>8}{counts[1]:>11}{counts[2]:>9}{places}")


def _share(found: Iterator[bool]) -> float:
    values = list(found)
    return float(np.mean(values)) if values else float("nan")


if __name__ == "__main__":
    main()
