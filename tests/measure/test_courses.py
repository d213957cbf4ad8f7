"""How signals go over time: folded blocks and single frames say the same, and no spike is lost."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.measure import courses
from keel.measure.courses import BLOCK, Courses
from keel.model.fields import BitField, extract
from keel.model.frames import batch_of
from keel.model.identity import Form, pack_key
from keel.model.span import Span
from keel.signals.dictionary import Message
from keel.signals.extracting import fold, take
from keel.signals.signal import Signal, Standing
from keel.store.recording import Snapshot
from tests.making import START, find, recorded

KEY = pack_key(0, Form.BASE, 0x100)
SPEED = Signal("speed", BitField(0, 16), 0.5, -10, absent=((0xFFFF, 0xFFFF),), wrong=((0xFFFE, 0xFFFE),))
PAGED = Signal("paged", BitField(16, 8), pages=((1, 1),), selector="page")
PAGE = Signal("page", BitField(24, 2), role="selector")
MESSAGE = Message("a", Form.BASE, 0x100, "M", (SPEED, PAGED, PAGE))
FRAMES = 3000
SPIKE = 1733


def raw_values() -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """A slow wave with one spike, and now and then no value."""
    raw = (1000 + 200 * np.sin(np.arange(FRAMES) / 300)).astype(np.int64)
    raw[SPIKE] = 60000
    raw[500:510] = 0xFFFF
    raw[900] = 0xFFFE
    return raw


@pytest.fixture(scope="module")
def snapshot(tmp_path_factory: pytest.TempPathFactory) -> Snapshot:
    """3000 frames, one a millisecond, in two segments; every 7th of page 1; one with a fault."""
    raw = raw_values()
    payloads = np.zeros((FRAMES, 4), np.uint8)
    payloads[:, 0], payloads[:, 1] = raw & 0xFF, raw >> 8
    payloads[:, 2] = np.arange(FRAMES) % 250
    payloads[:, 3] = np.arange(FRAMES) % 7 == 0
    faults = np.zeros(FRAMES, np.uint32)
    faults[100] = 1
    times = START + np.arange(FRAMES) * 1_000_000
    whole = batch_of(times, 0x100, payloads, faults=faults)
    folder: Path = tmp_path_factory.mktemp("courses") / "c.keel"
    return recorded(folder, whole.slice(0, 1300), whole.slice(1300, FRAMES))


@pytest.mark.parametrize("exact", [0, 10**9], ids=["blocks", "single frames"])
@pytest.mark.parametrize("columns", [1, 4, 40])
def test_an_envelope_holds_every_value(
    snapshot: Snapshot, exact: int, columns: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(courses, "EXACT", exact)
    span = snapshot.span
    found = Courses().envelope(find(snapshot), KEY, MESSAGE, SPEED, span, columns)
    physical = raw_values() * 0.5 - 10
    there = np.ones(FRAMES, np.bool_)
    there[500:510] = there[900] = there[100] = False
    place = np.searchsorted(span.edges(columns), START + np.arange(FRAMES) * 1_000_000, "right") - 1
    for column in range(columns):
        mine = physical[there & (place == column)]
        # A block that lies over a bound counts on both sides: never too little.
        assert found.least[column] <= mine.min() and found.most[column] >= mine.max()
    assert np.nanmax(found.most) == 60000 * 0.5 - 10 and np.nanmin(found.least) == physical[there].min()
    assert int(found.count.sum()) == FRAMES - 12 and int(found.absent.sum()) == 10 and int(found.wrong.sum()) == 1


@pytest.mark.parametrize("exact", [0, 10**9])
def test_a_course_says_least_mean_most_and_now(snapshot: Snapshot, exact: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(courses, "EXACT", exact)
    found = Courses().course(find(snapshot), KEY, MESSAGE, SPEED, snapshot.span, 4)
    physical = raw_values() * 0.5 - 10
    there = np.ones(FRAMES, np.bool_)
    there[500:510] = there[900] = there[100] = False
    assert (found.least, found.most) == (physical[there].min(), physical[there].max())
    assert found.mean == pytest.approx(physical[there].mean(), rel=1e-12)
    assert found.now == physical[-1] and found.seen == START + (FRAMES - 1) * 1_000_000
    assert (found.count, found.absent, found.wrong) == (FRAMES - 12, 10, 1) and np.isfinite(found.trend).all()


def test_ask_and_lens_leave_what_they_leave(snapshot: Snapshot, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(courses, "EXACT", 0)
    some = find(snapshot, "at:0.3s..1.6s")
    found = Courses().course(some, KEY, MESSAGE, SPEED, snapshot.span, 4)
    inside = raw_values()[300:1601]
    there = inside < 0xFFFE
    assert (found.count, found.absent) == (int(there.sum()), 10)
    assert found.mean == pytest.approx((inside[there] * 0.5 - 10).mean(), rel=1e-12)


def test_the_last_value_may_be_none_at_all(snapshot: Snapshot) -> None:
    everything = find(snapshot)
    last = Courses().last(everything, KEY, MESSAGE, SPEED, START + 505_500_000)
    assert last == (None, 0xFFFF, Standing.NOT_AVAILABLE, START + 505_000_000)
    paged = Courses().last(everything, KEY, MESSAGE, PAGED)
    assert paged is not None and paged[3] == START + (FRAMES - 1) // 7 * 7 * 1_000_000
    assert Courses().last(everything, KEY, MESSAGE, SPEED, START - 1) is None


def test_a_paged_signal_counts_only_on_its_page(snapshot: Snapshot, monkeypatch: pytest.MonkeyPatch) -> None:
    for exact in (0, 10**9):
        monkeypatch.setattr(courses, "EXACT", exact)
        found = Courses().course(find(snapshot), KEY, MESSAGE, PAGED, snapshot.span, 1)
        # Every 7th frame; the faulty one, number 100, is not among them.
        assert found.count == -(-FRAMES // 7)


def test_of_a_silent_signal_nothing_is_said(snapshot: Snapshot) -> None:
    nothing = Courses().course(find(snapshot, "id:200"), KEY, MESSAGE, SPEED, snapshot.span, 3)
    assert nothing.now is None and nothing.seen is None and nothing.count == 0
    empty = Courses().envelope(find(snapshot, "id:200"), KEY, MESSAGE, SPEED, Span(0, 10), 3)
    assert np.isnan(empty.least).all()


@given(
    st.integers(0, 55),
    st.integers(1, 64),
    st.sampled_from(["little", "big"]),
    st.booleans(),
    st.lists(st.binary(max_size=16), min_size=1, max_size=30),
)
def test_the_compiled_way_takes_what_the_plain_way_takes(
    start: int, length: int, order: str, signed: bool, payloads: list[bytes]
) -> None:
    field = BitField(start, length, order, signed)  # type: ignore[arg-type]
    batch = batch_of(0, 1, payloads)
    raw, there = take(field, batch, 0, len(payloads))
    for i, payload in enumerate(payloads):
        assert there[i] == (field.last_byte < len(payload))
        if there[i]:
            assert raw[i] == extract(field, np.frombuffer(payload, np.uint8)[None, :])[0]


@given(st.lists(st.tuples(st.floats(-1e6, 1e6), st.integers(0, 3)), min_size=1, max_size=700))
def test_folding_loses_no_value(rows: list[tuple[float, int]]) -> None:
    values, kind = np.array([v for v, _ in rows]), np.array([k for _, k in rows], np.uint8)
    folded = fold(values, kind, BLOCK)
    assert len(folded["least"]) == -(-len(rows) // BLOCK)
    for b in range(len(folded["least"])):
        mine = [v for v, k in rows[b * BLOCK : (b + 1) * BLOCK] if k == 0]
        assert folded["count"][b] == len(mine)
        assert folded["least"][b] == min(mine, default=np.inf) and folded["most"][b] == max(mine, default=-np.inf)
