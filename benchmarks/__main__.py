"""Runs the measurements and prints the table: figure, the limit beside it, their ratio, and what is asked."""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

from benchmarks.figures import Figure
from benchmarks.hunting import hunting
from benchmarks.interface import answering, first_screen
from benchmarks.live import eight_buses
from benchmarks.long import appending, captures, looking
from benchmarks.recording import keeping_up


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--frames", type=float, default=100e6, help="how long the long recording is")
    parser.add_argument("--seconds", type=float, default=10.0, help="how long to record at 20,000 frames/s")
    given = parser.parse_args()
    print(f"{'work':58}{'figure':>22}{'limit beside it':>34}{'ratio':>8}  asked", flush=True)

    def show(figures: list[Figure]) -> None:
        for figure in figures:
            print(figure.line(), flush=True)

    with tempfile.TemporaryDirectory(prefix="keel-speed-") as name:
        folder = Path(name)
        show(first_screen(folder))
        show(looking(folder, int(given.frames)))
        show(hunting(folder))
        show(captures(folder))
        show(appending(folder))
        show(keeping_up(folder, given.seconds))
        show(answering(folder, given.seconds))
        show(eight_buses(folder, given.seconds))


main()
