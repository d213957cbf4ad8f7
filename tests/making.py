"""Small recordings and batches for tests, made from plain values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from hypothesis import strategies as st

from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches
from keel.ask.names import scene_of
from keel.lines.can import with_wire_bits
from keel.model.bus import Bus
from keel.model.faults import SPOILS_NOTHING, Fault
from keel.model.frames import LENGTH_TO_DLC, Flag, FrameBatch, batch_of
from keel.model.identity import Form
from keel.model.span import Mark
from keel.model.units import NS_PER_S
from keel.signals.dictionary import Dictionary
from keel.store.manifest import Board, Comment, Manifest, NamedAsk, Reading, edit_manifest
from keel.store.recording import Recording, Snapshot
from keel.store.writer import Writer, create_recording

START = 1_700_000_000 * NS_PER_S
BUSES = [Bus("a", 500_000, 2_000_000), Bus("b", 250_000, 250_000)]


@dataclass(frozen=True)
class Row:
    """One frame in plain values, for tests and slow references."""

    time: int
    ident: int
    payload: bytes = b""
    bus: int = 0
    form: int = Form.BASE
    flags: int = 0
    faults: int = 0

    @property
    def is_good(self) -> bool:
        """Whether cycle times and changes are made of it."""
        return not self.faults & ~SPOILS_NOTHING and not self.flags & (Flag.REMOTE | Flag.ASIDE)


def batch(rows: Sequence[Row]) -> FrameBatch:
    """The rows as a batch, bits on the wire counted."""
    lengths = np.array([min(len(r.payload), 64) for r in rows], np.int64)
    return with_wire_bits(
        batch_of(
            np.array([r.time for r in rows], np.int64),
            np.array([r.ident for r in rows], np.uint64),
            [r.payload for r in rows],
            bus=np.array([r.bus for r in rows], np.uint8),
            form=np.array([r.form for r in rows], np.uint8),
            flags=np.array([r.flags for r in rows], np.uint16),
            faults=np.array([r.faults for r in rows], np.uint32),
            dlc=LENGTH_TO_DLC[lengths],
        )
    )


def new_recording(folder: Path, dictionary: Dictionary | None = None) -> Path:
    """An empty recording on two buses."""
    manifest = Manifest(folder.stem, "a test", START, list(BUSES))
    if dictionary is not None:
        manifest.dictionary = dictionary
    create_recording(folder, manifest)
    return folder


def enriched(folder: Path, dictionary: Dictionary) -> Path:
    """A recording whose manifest has something of everything that people write into it."""
    recorded(folder, batch([Row(START + i * 1000, 0x100, bytes([i]), faults=int(Fault.CRC)) for i in range(9)]))
    with edit_manifest(folder) as manifest:
        manifest.dictionary = dictionary
        manifest.marks.append(Mark(1, START))
        manifest.comments.append(Comment(3, "here"))
        manifest.readings.append(Reading(START, 1.5, ""))
        manifest.asks.append(NamedAsk("all faults", "fault"))
        manifest.boards.append(Board("bridge", ("Pump.level",)))
    return folder


def recorded(folder: Path, *batches: FrameBatch, dictionary: Dictionary | None = None, seal: bool = True) -> Snapshot:
    """A recording of some batches: each sealed as a segment of its own, or all left in the journal."""
    new_recording(folder, dictionary)
    if seal:
        for one in batches:
            writer = Writer(folder, journal=False)
            writer.append(one)
            writer.close()
    else:
        writer = Writer(folder)
        for one in batches:
            writer.append(one)
        # As if the recorder had died: nothing is sealed.
        writer._lock.close()
    return Recording(folder).snapshot()


def find(snapshot: Snapshot, ask: str = "") -> Matches:
    """The matches of an ask."""
    scene = scene_of(snapshot)
    return Matcher(parse(ask, scene), scene).run(snapshot)


def same_frames(a: FrameBatch, b: FrameBatch) -> bool:
    """Whether two batches hold the same frames."""
    names = ("time", "bus", "form", "ident", "flags", "faults", "dlc", "bits", "fast_bits")
    return all(np.array_equal(getattr(a, n), getattr(b, n)) for n in names) and [
        a.payload(i) for i in range(len(a))
    ] == [b.payload(i) for i in range(len(b))]


def rows(most: int = 60, ordered: bool = True) -> st.SearchStrategy[list[Row]]:
    """Random frames: few identifiers, few byte values, so that things meet."""
    one = st.builds(
        Row,
        time=st.integers(0, 50).map(lambda ms: ms * 1_000_000),
        ident=st.sampled_from([0x0A4, 0x1A0, 0x220, 0x221, 0x7FF]),
        payload=st.one_of(st.binary(max_size=8), st.binary(min_size=3, max_size=3)).map(
            lambda p: bytes(b & 0x43 for b in p)
        ),
        bus=st.integers(0, 1),
        form=st.sampled_from([Form.BASE, Form.EXTENDED]),
        flags=st.sampled_from([0, int(Flag.TX), int(Flag.FD), int(Flag.FD | Flag.BRS), int(Flag.REMOTE)]),
        faults=st.sampled_from([0, 0, 0, 1, 8, int(Fault.TRUNCATED), int(Fault.LOST | Fault.CRC)]),
    )

    # A remote request carries no payload.
    one = one.map(lambda row: replace(row, payload=b"") if row.flags & Flag.REMOTE else row)

    def timed(found: list[Row]) -> list[Row]:
        total, out = START, []
        for row in found:
            total = total + row.time if ordered else START + row.time
            out.append(Row(total, row.ident, row.payload, row.bus, row.form, row.flags, row.faults))
        return out

    return st.lists(one, min_size=1, max_size=most).map(timed)
