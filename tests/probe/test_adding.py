"""A probe added to what was recorded meanwhile: laid onto its clock by the frames that both have."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from keel.bench.ferry import Ferry
from keel.bench.probe import probed_wires
from keel.bench.probes import PROBES
from keel.errors import InputError
from keel.media.every import ends_of
from keel.model.bus import Bus
from keel.model.frames import FrameBatch, concat, replace_columns
from keel.model.prints import prints_of
from keel.model.waveform import Logic
from keel.probe.adding import add_waveforms
from keel.probe.aligning import align, twin_of
from keel.store.manifest import Manifest, load_manifest
from keel.store.recording import Recording
from keel.store.replacing import take_back
from keel.store.verify import verify
from keel.store.writer import Writer, create_recording
from tests.lines.waves import vcd
from tests.making import START

SECONDS, BEGUN_S, LASTS_S = 4.0, 1.3, 1.0


def sailed(seed: int = 5) -> FrameBatch:
    """What is on bus A, and when it came: with the delays of a recorder."""
    ferry = Ferry(seed)
    start = ferry.start_ns
    batch = concat([ferry.advance(1.0) for _ in range(int(SECONDS))])
    batch = batch.take(np.flatnonzero(batch.bus == 0))
    late = np.random.default_rng(1).exponential(150_000, len(batch)).astype(np.int64)
    return replace_columns(batch, time=np.maximum.accumulate(batch.time - start + START + late))


def probe(seed: int = 5) -> Logic:
    """A part of the same on a wire, whose clock counts from its own zero."""
    line = probed_wires(PROBES["bus-a"], SECONDS, seed)[1].line
    begin = line.start + round(BEGUN_S * 1e9)
    low, high = np.searchsorted(line.edges, [begin, begin + round(LASTS_S * 1e9)])
    edges = line.edges[low:high] - begin
    return Logic(0, round(LASTS_S * 1e9), line.first ^ int(low) & 1, edges)


@pytest.fixture
def live(tmp_path: Path) -> Path:
    return recorded_bus(tmp_path / "live.keel")


def recorded_bus(folder: Path) -> Path:
    """Bus A as a recorder has it, and a bus on which nothing came."""
    create_recording(folder, Manifest("live", "a test", START, [Bus("A", 500_000, 2_000_000), Bus("B")]))
    writer = Writer(folder)
    writer.append(sailed())
    writer.close()
    return folder


def test_a_probe_is_laid_onto_the_clock_by_the_frames_that_both_have(live: Path, tmp_path: Path) -> None:
    (tmp_path / "wire.vcd").write_bytes(vcd(wire=probe()))
    before = Recording(live).snapshot()
    added = add_waveforms([tmp_path / "wire.vcd"], live, None)
    assert added.alignment is not None and added.alignment.bus == 0
    assert added.alignment.matched > 0.95 * added.alignment.of > 300
    # Frames came some tenths of a millisecond late.
    assert added.alignment.offset == pytest.approx(START + BEGUN_S * 1e9, abs=3e6)
    assert added.alignment.apart < 1_000_000 and abs(added.alignment.ppm) < 500
    after = Recording(live).snapshot()
    assert after.frames == before.frames + added.frames and not verify(live)
    manifest = load_manifest(live)
    assert [bus.name for bus in manifest.buses] == ["A", "B", "wire"]
    assert manifest.lines[0].twin == 0 and manifest.waveforms[0].offset == added.alignment.offset
    assert any("laid onto the clock of A" in note for note in manifest.notes)
    assert after.span == before.span

    rows = after.rows(0, after.frames)
    live_rows = np.flatnonzero((rows.bus == 0) & rows.is_good(slice(None)))
    derived = set(np.flatnonzero(rows.bus == 2).tolist())
    within = [n for n in live_rows.tolist() if START + 1.5e9 < rows.time[n] < START + 2.1e9]
    twins = [twin_of(after, manifest.lines[0], n) for n in within]
    assert sum(twin in derived for twin in twins) > 0.95 * len(within) > 100
    prints = prints_of(rows)
    assert all(prints[a] == prints[b] for a, b in zip(within, twins, strict=True) if b is not None)
    ends = ends_of(rows, manifest.buses)
    found = [n for n in twins if n is not None]
    assert all(ends[n] is not None and ends[n] > rows.time[n] for n in found)
    assert twin_of(after, manifest.lines[0], int(live_rows[0])) is None

    take_back(live)
    assert Recording(live).snapshot().frames == before.frames


def test_a_second_probe_has_names_of_its_own(live: Path, tmp_path: Path) -> None:
    (tmp_path / "wire.vcd").write_bytes(vcd(wire=probe()))
    add_waveforms([tmp_path / "wire.vcd"], live, None)
    add_waveforms([tmp_path / "wire.vcd"], live, START + 5_000_000_000)
    manifest = load_manifest(live)
    assert [bus.name for bus in manifest.buses] == ["A", "B", "wire", "wire wire"]
    assert [line.twin for line in manifest.lines] == [0, -1]
    assert manifest.waveforms[-1].start == START + 5_000_000_000
    assert "laid by hand to 4.97" in manifest.notes[-1]


def test_a_probe_of_something_else_is_not_laid_anywhere(live: Path, tmp_path: Path) -> None:
    (tmp_path / "wire.vcd").write_bytes(vcd(wire=probe(seed=99)))
    frames, before = Recording(live).snapshot().frames, load_manifest(live)
    with pytest.raises(InputError, match="no bus of the recording has the frames"):
        add_waveforms([tmp_path / "wire.vcd"], live, None)
    assert Recording(live).snapshot().frames == frames and load_manifest(live) == before


def test_what_is_said_alike_has_one_print() -> None:
    batch = sailed()
    prints = prints_of(batch)
    rows = {(int(batch.ident[n]), int(batch.form[n]), batch.payload(n)): int(prints[n]) for n in range(2_000)}
    assert len(set(rows.values())) == len(rows)
    assert (prints_of(batch.slice(100, 200)) == prints[100:200]).all()


def test_frames_that_are_always_alike_tell_no_place(live: Path) -> None:
    same = sailed().take(np.zeros(50, np.int64))
    assert align(Recording(live).snapshot(), replace_columns(same, time=np.arange(50) * 10_000_000)) is None
