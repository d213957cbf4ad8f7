"""Limits of hunting and decoding, each figure with what it is held against in the same run."""

from __future__ import annotations

import resource
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.figures import Figure, best_of
from benchmarks.stream import START, make_stream
from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.nodes import Scene
from keel.hunt.columns import gather
from keel.hunt.measurements import Points
from keel.hunt.readings import follow_readings
from keel.hunt.structure import structures_of
from keel.hunt.traffic import Traffic
from keel.hunt.windows import fit_windows
from keel.measure.courses import Courses
from keel.model.fields import BitField
from keel.model.identity import unpack_key
from keel.signals.dictionary import Message
from keel.signals.extracting import take
from keel.signals.signal import Signal
from keel.store.chunk import Chunk
from keel.store.recording import Recording, Snapshot

IDENTIFIERS, POINTS = 60, 200
TEN_MINUTES = 2_000_000
FIRST_LOOK = 1_000
VALUE = Signal("value", BitField(15, 16, "big"), 0.1, -40)


def _figure(work: str, took: float, limit: str, beside: float, asked: str) -> Figure:
    return Figure(work, f"{took * 1e3:.1f} ms", f"{limit} {beside * 1e3:.1f} ms", took / beside, asked)


def windows() -> Figure:
    """Every field of 60 identifiers against 200 values."""
    rng = np.random.default_rng(1)
    payloads = [rng.integers(0, 256, (POINTS, 8)).astype(np.uint8) for _ in range(IDENTIFIERS)]
    values = rng.normal(0, 1, POINTS)
    fit_windows(payloads[0], values)
    count = sum(fit_windows(p, values).count for p in payloads)
    took = best_of(5, lambda: [fit_windows(p, values) for p in payloads])
    bits = [np.unpackbits(p, axis=1) for p in payloads]
    beside = best_of(5, lambda: [b.sum() for b in bits])
    return _figure(f"{count} fields against {POINTS} values", took, "sum of aligned bits", beside, "500 ms")


def _everything(snapshot: Snapshot) -> Matches:
    scene = Scene(tuple(snapshot.manifest.bus_names), snapshot.book, snapshot.span.start)
    return Matcher(parse(""), scene).run(snapshot)


def ten_minutes(folder: Path) -> list[Figure]:
    """The same against all frames of ten minutes; and the structure of all of them."""
    snapshot = Recording(make_stream(folder / "ten.keel", TEN_MINUTES)).snapshot()
    matches = _everything(snapshot)
    columns = gather(matches, most=TEN_MINUTES)
    beside = best_of(3, lambda: [c.payloads.sum() for c in columns.values()])
    waves = {key: np.sin((c.times - START) / 7e9) for key, c in columns.items()}
    fitting = best_of(2, lambda: [fit_windows(c.payloads[:, :8], waves[key]) for key, c in columns.items()])
    structure = best_of(1, lambda: structures_of(gather(matches)))
    frames = f"{snapshot.frames / 1e6:.1f} M frames: "
    return [
        _figure(frames + "every field of 8 bytes against each frame", fitting, "sum of payloads", beside, "5 s"),
        _figure(frames + "structure, checksums identified", structure, "sum of payloads", beside, "10 s"),
    ]


def long_hunts(path: Path) -> list[Figure]:
    """A hunt by readings, and one signal decoded, in a long recording."""
    snapshot = Recording(path).snapshot()
    of = f"{snapshot.frames / 1e6:.0f} M frames: "
    matches = _everything(snapshot)
    key = next(k for k in snapshot.chunks[0].keys.tolist() if k >> 56 == 0)
    length = snapshot.span.end - snapshot.span.start
    moments = snapshot.span.start + (np.linspace(0.05, 0.95, 12) * length).astype(np.int64)
    message = Message("", *unpack_key(key)[1:], "M", (VALUE,))
    courses = Courses()
    read = [courses.last(matches, key, message, VALUE, int(t)) for t in moments]
    points = Points(moments, np.array([r[0] if r and r[0] is not None else 0.0 for r in read]).round())

    def hunt(most: int) -> object:
        return follow_readings(Traffic.of(gather(matches, most=most, together=min(most // 8, 4000))), points)

    hunt(FIRST_LOOK)
    first = best_of(1, lambda: hunt(FIRST_LOOK))
    whole = best_of(1, lambda: hunt(200_000))
    runs = [(c, *_run(c, key)) for c in snapshot.chunks]
    runs = [r for r in runs if r[2] > r[1]]

    def decoding() -> None:
        for chunk, low, high in runs:
            raw, _ = take(VALUE.field, chunk.batch, low, high)
            VALUE.physical(raw)

    def payloads() -> None:
        for chunk, low, high in runs:
            offsets = chunk.batch.offsets
            chunk.batch.data[int(offsets[low]) : int(offsets[high])].sum()

    decoding()
    summed, decoded = best_of(3, payloads), best_of(3, decoding)

    def drawn(fresh: bool) -> Callable[[], object]:
        held = Courses() if fresh else courses
        return lambda: held.envelope(matches, key, message, VALUE, snapshot.span, 300)

    begun = best_of(1, drawn(True))
    drawn(False)()
    again = best_of(3, drawn(False))
    count = sum(high - low for _, low, high in runs)
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return [
        _figure(of + "hunt by readings, first ranking", first, "sum of one payload", summed, "2 s"),
        _figure(of + "  complete, each n-th of the most frequent", whole, "sum of one payload", summed, "60 s"),
        _figure(of + f"decode one signal ({count / 1e6:.1f} M frames)", decoded, "sum of its payload", summed, "4x"),
        _figure(of + "draw it the first time", begun, "sum of its payload", summed, ""),
        _figure(of + "draw it again, any lens", again, "sum of its payload", summed, "200 ms"),
        Figure(of + "most memory of this process", f"{memory:.0f} MiB", "", None, "bounded"),
    ]


def _run(chunk: Chunk, key: int) -> tuple[int, int]:
    run = int(np.searchsorted(chunk.keys, np.uint64(key)))
    if run == len(chunk.keys) or int(chunk.keys[run]) != key:
        return 0, 0
    return int(chunk.starts[run]), int(chunk.starts[run + 1])


def hunting(folder: Path) -> list[Figure]:
    """All of it; the long recording is the one that was looked at before."""
    return [windows(), *ten_minutes(folder), *long_hunts(folder / "long.keel")]
