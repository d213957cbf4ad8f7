"""The limits to hold at a hundred million frames, each figure with what it is held against in the same run."""

from __future__ import annotations

import mmap
import os
import random
import re
import resource
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.figures import Figure, best_of
from benchmarks.stream import BUSES, START, blocks, make_stream
from keel.app.desk.warm_up import warm_up
from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.names import scene_of
from keel.measure.census import census_of
from keel.measure.flips import flips_by_key
from keel.model.frames import COLUMNS
from keel.model.span import Span
from keel.store.manifest import Manifest
from keel.store.packing import copy_recording, pack
from keel.store.recording import Recording, Snapshot
from keel.store.writer import Writer, create_recording


def _ms(seconds: float) -> str:
    return f"{seconds * 1e3:.1f} ms"


def _figure(work: str, took: float, limit: str, beside: float, asked: str) -> Figure:
    return Figure(work, _ms(took), f"{limit} {_ms(beside)}", took / beside, asked)


def looking(folder: Path, frames: int) -> list[Figure]:
    """Opening, one identifier, statistics, an ask no index helps, flips."""
    path = make_stream(folder / "long.keel", frames)
    warm_up()
    snapshot = Recording(path).snapshot()
    scene, count = scene_of(snapshot), snapshot.frames
    of = f"{count / 1e6:.0f} M frames: "

    def ask(text: str, lens: Span | None = None, patience: Callable[[], bool] | None = None) -> Matches:
        return Matcher(parse(text, scene), scene).run(snapshot, lens, patience)

    def over(column: Callable[[int], object]) -> float:
        return best_of(3, lambda: [column(i) for i in range(len(snapshot.chunks))])

    batches = [chunk.batch for chunk in snapshot.chunks]
    keys = over(lambda i: batches[i].ident.sum())
    payloads = over(lambda i: batches[i].data.sum())
    wide = over(lambda i: batches[i].data[: len(batches[i].data) // 8 * 8].view(np.uint64).sum())
    both = over(lambda i: (batches[i].time.sum(), batches[i].data.sum()))

    def one() -> object:
        matches = ask("id:110")
        rank = matches.rank(count // 2)
        return matches.numbers(rank, rank + 40)

    def opening() -> object:
        fresh = Recording(path).snapshot()
        at = random.randrange(count - 40)
        return fresh.rows(at, at + 40)

    whole = snapshot.span
    lens = Span(whole.start + (whole.end - whole.start) // 7 + 12345, whole.end - (whole.end - whole.start) // 3)
    first = best_of(3, lambda: ask('bytes:"?? 5E"', patience=lambda: False).numbers(0, 40))
    return [
        _figure(
            of + "open, and 40 rows from anywhere", best_of(5, opening), "4 KiB read", _random_read(snapshot), "20 ms"
        ),
        _figure(of + "one identifier: count, 40 matches", best_of(5, one), "sum of keys", keys, "30 ms, 0.5x"),
        _figure(
            of + "statistics, any lens", best_of(3, lambda: census_of(ask("", lens))), "times, payloads", both, "3x"
        ),
        _figure(of + "statistics, all of it", best_of(3, lambda: census_of(ask(""))), "times, payloads", both, "50 ms"),
        _figure(
            of + 'ask bytes:"?? 5E", complete',
            best_of(3, lambda: ask('bytes:"?? 5E"')),
            "sum of payloads",
            payloads,
            "6x",
        ),
        _figure(of + "  first screenful of it", first, "sum of payloads", payloads, "100 ms"),
        _figure(
            of + "flips of every bit", best_of(3, lambda: flips_by_key(ask(""))), "sum of payloads", payloads, "4x"
        ),
        _figure(of + "  (payloads summed as 64-bit words)", wide, "sum of payloads", payloads, ""),
        _memory(path, of),
        *_sizes(snapshot, path, folder),
    ]


def _random_read(snapshot: Snapshot) -> float:
    """One page from anywhere in the recording, by a plain read."""
    paths = sorted(Path(str(chunk.path)) for chunk in snapshot.chunks if hasattr(chunk, "path"))

    def read() -> bytes:
        path = random.choice(paths)
        with path.open("rb", buffering=0) as file:
            file.seek(random.randrange(max(path.stat().st_size - mmap.PAGESIZE, 1)))
            return file.read(mmap.PAGESIZE)

    return best_of(20, read)


def _memory(path: Path, of: str) -> Figure:
    """Private memory of a process that asked, counted and measured all of it."""
    script = (
        "import sys, keel; from keel.app.desk.warm_up import warm_up; warm_up(); r = keel.open(sys.argv[1]); "
        "len(r.frames('bytes:\"?? 5E\"')); r.stats('moved@1'); r.stats(); "
        "print(open('/proc/self/smaps_rollup').read())"
    )
    said = subprocess.run([sys.executable, "-c", script, str(path)], capture_output=True, text=True, check=True).stdout
    private = sum(int(kb) for kb in re.findall(r"Private_(?:Dirty|Hugetlb):\s+(\d+) kB", said)) / 1024
    return Figure(of + "private memory after asks and statistics", f"{private:.0f} MiB", "", None, "400 MB")


def _sizes(snapshot: Snapshot, path: Path, folder: Path) -> list[Figure]:
    raw = sum(
        sum(getattr(c.batch, name).nbytes for name in COLUMNS) + 4 * len(c) + len(c.batch.data) for c in snapshot.chunks
    )
    live = sum(p.stat().st_size for p in path.rglob("*") if p.is_file())
    part = folder / "part.keel"
    make_stream(part, min(snapshot.frames, 4_000_000))
    part_live = sum(p.stat().st_size for p in part.rglob("*") if p.is_file())
    copy_recording(part, folder / "packed.keel")
    begin = time.perf_counter()
    pack(folder / "packed.keel")
    took = time.perf_counter() - begin
    packed = sum(p.stat().st_size for p in (folder / "packed.keel").rglob("*") if p.is_file())
    share = packed / part_live * live / raw
    beside = f"raw columns {raw / 1e6:.0f} MB"
    return [
        Figure("size on disk, live form", f"{live / 1e6:.0f} MB", beside, live / raw, "1.4x"),
        Figure(
            f"size on disk, packed ({part_live / 1e6 / took:.0f} MB/s)",
            f"{share * raw / 1e6:.0f} MB",
            beside,
            share,
            "0.45x",
        ),
    ]


def appending(folder: Path, frames: int = 4_000_000) -> list[Figure]:
    """Live append with the journal: as fast as it goes, and at 50,000 frames a second."""
    given = list(blocks(frames))
    pieces = [b.slice(at, min(at + 2500, len(b))) for b in given for at in range(0, len(b), 2500)]

    def recorded(name: str, rate: float | None) -> tuple[float, float, float]:
        shutil.rmtree(folder / name, ignore_errors=True)
        create_recording(folder / name, Manifest(name, "made up", START, list(BUSES)))
        writer = Writer(folder / name)
        begin, worst = time.perf_counter(), 0.0
        before = resource.getrusage(resource.RUSAGE_SELF)
        for i, piece in enumerate(pieces if rate is None else pieces[:480]):
            if rate is not None:
                time.sleep(max(begin + i * 2500 / rate - time.perf_counter(), 0))
            start = time.perf_counter()
            writer.append(piece)
            worst = max(worst, time.perf_counter() - start)
        took = time.perf_counter() - begin
        writer.close()
        after = resource.getrusage(resource.RUSAGE_SELF)
        return took, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, worst

    took, _, _ = recorded("append.keel", None)
    _, used, worst = recorded("steady.keel", 50_000)
    size = sum(b.data.nbytes + len(b) * 35 for b in given)
    block = bytes(1 << 20)

    def plain() -> None:
        with (folder / "plain").open("wb", buffering=0) as file:
            for i in range(size >> 20):
                file.write(block)
                if i % 64 == 63:
                    os.fsync(file.fileno())

    beside = best_of(2, plain)
    n = sum(map(len, given))
    steady = 480 * 2500
    return [
        Figure(
            "live append, journal and sealing", f"{n / took / 1e6:.2f} M frames/s", f"plain write {_ms(beside)}",
            took / beside, "1 M frames/s",
        ),
        Figure("  at 50,000 frames/s, sealed at the end", f"{used / steady * 1e6:.2f} µs a frame", "", None, "1.5 µs"),
        Figure("  longest append while sealing", _ms(worst), "", None, "50 ms"),
    ]  # fmt: skip


def captures(folder: Path, frames: int = 2_000_000) -> list[Figure]:
    """Text and pcap import: parsing alone, and until sealed."""
    import struct

    from keel.formats import pcap, textlog
    from keel.formats.canrecord import frames_to_records
    from keel.formats.exporting import Setting, open_writer
    from keel.formats.importing import import_files
    from keel.formats.reader import Account
    from keel.model.bus import Bus

    log, capture = folder / "big.log", folder / "big.pcap"
    writer = open_writer(log, "log", Setting([Bus("a"), Bus("b")], START, {}, [], {}))
    with capture.open("wb") as file:
        file.write(struct.pack("<IHHiIII", 0xA1B23C4D, 2, 4, 0, 0, 262144, 227))
        for batch in blocks(frames):
            writer.write(batch, np.arange(len(batch)))
            packed = frames_to_records(batch)
            columns = zip(batch.time.tolist(), packed.sizes.tolist(), strict=True)
            for row, (at, size) in enumerate(columns):
                file.write(struct.pack("<IIII", at // 10**9, at % 10**9, size, size))
                file.write(packed.heads[row, :size].tobytes())
    writer.close()

    def sealed(path: Path) -> float:
        def run() -> None:
            shutil.rmtree(folder / "imported.keel", ignore_errors=True)
            import_files([path], folder / "imported.keel")

        return best_of(2, run)

    wc = best_of(3, lambda: subprocess.run(["wc", "-l", str(log)], capture_output=True, check=True))
    cat = best_of(3, lambda: subprocess.run(f"cat '{capture}' | cat > /dev/null", shell=True, check=True))
    text = best_of(2, lambda: [len(b) for b in textlog.read(log, Account(), lambda *_: None)])
    records = best_of(2, lambda: [len(b) for b in pcap.read(capture, Account(), lambda *_: None)])
    return [
        _figure("text import, parsing alone", text, "wc -l", wc, "8x"),
        _figure("text import until sealed", sealed(log), "wc -l", wc, "20x"),
        _figure("pcap import, parsing alone", records, "cat | cat", cat, "4x"),
        _figure("pcap import until sealed", sealed(capture), "cat | cat", cat, "12x"),
    ]
