"""Runs the measurements and prints the table: figure, the limit beside it, their ratio, and what is asked."""

from __future__ import annotations

import argparse
import tempfile
from collections.abc import Callable
from pathlib import Path

from benchmarks.figures import Figure
from benchmarks.hunting import hunting
from benchmarks.interface import answering, first_screen
from benchmarks.lines import clocked, decoding, measuring, noise, reading, zooming
from benchmarks.live import eight_buses
from benchmarks.long import appending, captures, looking
from benchmarks.recording import keeping_up


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--frames", type=float, default=100e6, help="how long the long recording is")
    parser.add_argument("--seconds", type=float, default=10.0, help="how long to record at 20,000 frames/s")
    parser.add_argument("--noise", type=int, default=60, help="minutes of noise on a line")
    parser.add_argument("parts", nargs="*", help="app, frames, live, lines; left out: all")
    given = parser.parse_args()
    print(f"{'work':58}{'figure':>22}{'limit beside it':>34}{'ratio':>8}  asked", flush=True)

    def show(figures: list[Figure]) -> None:
        for figure in figures:
            print(figure.line(), flush=True)

    with tempfile.TemporaryDirectory(prefix="keel-speed-") as name:
        folder = Path(name)
        parts: dict[str, list[Callable[[], list[Figure]]]] = {
            "app": [lambda: first_screen(folder), lambda: answering(folder, given.seconds)],
            "frames": [
                lambda: looking(folder, int(given.frames)), lambda: hunting(folder), lambda: captures(folder),
                lambda: appending(folder),
            ],
            "live": [lambda: keeping_up(folder, given.seconds), lambda: eight_buses(folder, given.seconds)],
            "lines": [
                lambda: reading(folder), measuring, decoding, clocked, lambda: zooming(folder),
                lambda: noise(given.noise),
            ],
        }  # fmt: skip
        for part in given.parts or parts:
            for measure in parts[part]:
                show(measure())


main()
