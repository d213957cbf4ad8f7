"""Keeping up with a fast bus."""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
from pathlib import Path

from benchmarks.figures import Figure, best_of
from keel.store.recording import Recording

FRAMES_A_SECOND = 758
"""What the ferry sends in real time, about."""


def keeping_up(folder: Path, seconds: float) -> list[Figure]:
    """Recording 20,000 frames a second with the recorder held to one processor; beside a plain write of the same."""
    path = folder / "fast.keel"
    speed = 20_500 / FRAMES_A_SECOND
    command = [sys.executable, "-m", "keel", "record", "--from", f"bench lines=can speed={speed:.2f}", str(path)]
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    one = min(os.sched_getaffinity(0))
    subprocess.run(
        ["taskset", "-c", str(one), *command, "--seconds", str(seconds)], check=True, stderr=subprocess.DEVNULL
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    used = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    snapshot = Recording(path).snapshot()
    status = json.loads((path / "status.json").read_text())
    size = sum(f.stat().st_size for f in path.rglob("*") if f.is_file())
    block = os.urandom(1 << 20)

    def write() -> None:
        with (folder / "plain").open("wb", buffering=0) as file:
            for _ in range(max(size >> 20, 1)):
                file.write(block)
            os.fsync(file.fileno())

    plain = best_of(3, write)
    covered = snapshot.span.seconds / speed
    rate = snapshot.frames / max(covered, 1e-9)
    return [
        Figure(
            "live recording on one processor, bench included",
            f"{rate:,.0f} frames/s",
            f"plain write of its {size >> 20} MiB: {plain * 1e3:.0f} ms",
            None,
            f"20,000 frames/s, nothing lost: {snapshot.manifest.lost} lost",
        ),
        Figure(
            "  of it covered / processor used",
            f"{covered:.1f} s / {used:.1f} s",
            f"asked to record {seconds:.0f} s",
            None,
            f"kept up: {covered / seconds:.0%}, last pass {status['behind_s'] * 1e3:.0f} ms late",
        ),
    ]
