"""Importing, looking, and keeping up with a fast bus."""

from __future__ import annotations

import json
import os
import resource
import shutil
import subprocess
import sys
from pathlib import Path

import numpy as np

from benchmarks.figures import Figure, best_of
from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.scene import scene_of
from keel.bench.ferry import Ferry
from keel.formats import textlog
from keel.formats.importing import import_files
from keel.formats.reading import Account
from keel.measure.load import bus_loads
from keel.store.recording import Recording

FRAMES_A_SECOND = 758
"""What the ferry sends in real time, about."""


def importing(folder: Path, lines: int) -> list[Figure]:
    """A text log: parsing alone, and until sealed; beside `wc -l`."""
    log = folder / "big.log"
    ferry = Ferry(1)
    written = 0
    with log.open("w") as file:
        while written < lines:
            text = [line + "\n" for line in textlog.format_lines(ferry.advance(20), ["a", "b"])][: lines - written]
            file.writelines(text)
            written += len(text)

    def until_sealed() -> None:
        shutil.rmtree(folder / "big.keel", ignore_errors=True)
        import_files([log], folder / "big.keel")

    counting = best_of(3, lambda: subprocess.run(["wc", "-l", str(log)], capture_output=True, check=True))
    parsing = best_of(3, lambda: list(textlog.read(log, Account(), lambda *_: None)))
    sealing = best_of(3, until_sealed)
    beside = f"wc -l {counting * 1e3:.0f} ms"
    return [
        Figure("text import, parsing alone", f"{lines / parsing / 1e6:.2f} M lines/s", beside, parsing / counting, ""),
        Figure(
            "text import until sealed",
            f"{lines / sealing / 1e6:.2f} M lines/s",
            beside,
            sealing / counting,
            "1 M lines/s or better",
        ),
    ]


def looking(folder: Path) -> list[Figure]:
    """Opening, asking and counting over what was imported; beside one NumPy pass over a column."""
    path = folder / "big.keel"
    snapshot = Recording(path).snapshot()
    scene = scene_of(snapshot)
    times = [np.array(chunk.batch.time) for chunk in snapshot.chunks]
    data = [np.array(chunk.batch.data) for chunk in snapshot.chunks]
    over_times = best_of(5, lambda: [int(t.sum()) for t in times])
    over_data = best_of(5, lambda: [int(d.sum()) for d in data])
    everything = Matcher(parse("", scene), scene).run(snapshot)

    def ask(text: str) -> float:
        return best_of(5, lambda: Matcher(parse(text, scene), scene).run(snapshot))

    opening = best_of(5, lambda: Recording(path).snapshot().rows(snapshot.frames // 2, snapshot.frames // 2 + 40))
    pages = best_of(20, lambda: everything.numbers(snapshot.frames // 2, snapshot.frames // 2 + 40))
    census = best_of(3, lambda: census_of(everything))
    load = best_of(3, lambda: bus_loads(everything, snapshot.span))
    one, pattern = ask("id:220"), ask('bytes:"?? B0"')
    frames = f"{snapshot.frames / 1e6:.1f} M frames: "
    column = f"sum of the times {over_times * 1e3:.2f} ms"
    payload = f"sum of the payloads {over_data * 1e3:.2f} ms"
    return [
        Figure(frames + "open and fetch 40 rows", f"{opening * 1e3:.1f} ms", column, opening / over_times, ""),
        Figure(frames + "numbers of 40 rows", f"{pages * 1e3:.2f} ms", column, pages / over_times, ""),
        Figure(frames + "ask id:220", f"{one * 1e3:.1f} ms", column, one / over_times, ""),
        Figure(frames + 'ask bytes:"?? B0"', f"{pattern * 1e3:.1f} ms", payload, pattern / over_data, ""),
        Figure(frames + "census of every identifier", f"{census * 1e3:.0f} ms", column, census / over_times, ""),
        Figure(frames + "exact load and peak", f"{load * 1e3:.0f} ms", column, load / over_times, ""),
    ]


def keeping_up(folder: Path, seconds: float) -> list[Figure]:
    """Recording 20,000 frames a second with the recorder held to one processor; beside a plain write of the same."""
    path = folder / "fast.keel"
    speed = 20_500 / FRAMES_A_SECOND
    command = [sys.executable, "-m", "keel", "record", "--from", "bench", str(path), "--speed", f"{speed:.2f}"]
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
