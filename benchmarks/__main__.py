"""Runs the measurements and prints the table: figure, the limit beside it, their ratio, and what is asked."""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

from benchmarks.figures import Figure
from benchmarks.interface import answering, first_screen
from benchmarks.recording import importing, keeping_up, looking


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--lines", type=int, default=1_000_000, help="lines of the text log to import")
    parser.add_argument("--seconds", type=float, default=10.0, help="how long to record at 20,000 frames/s")
    given = parser.parse_args()
    figures: list[Figure] = []
    with tempfile.TemporaryDirectory(prefix="keel-speed-") as name:
        folder = Path(name)
        figures += first_screen(folder)
        figures += importing(folder, given.lines)
        figures += looking(folder)
        figures += keeping_up(folder, given.seconds)
        figures += answering(folder, given.seconds)
    print(f"{'work':58}{'figure':>22}{'limit beside it':>34}{'ratio':>8}  asked")
    for figure in figures:
        print(figure.line())


main()
