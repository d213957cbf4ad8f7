"""Asks over columns give what a slow reading of one frame after another gives."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from fnmatch import fnmatch
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.names import scene_of
from keel.ask.nodes import Nothing, all_of
from keel.ask.terms import COMPARISONS
from keel.model.frames import Flag
from keel.model.identity import Form
from keel.model.span import Span
from keel.signals.dictionary import Dictionary, Message
from keel.store import recording as recording_module
from keel.store.recording import Recording
from keel.store.writer import Writer
from tests.making import START, Row, batch, find, new_recording, recorded, rows

DICTIONARY = Dictionary((Message("a", Form.BASE, 0x1A0, "PackOne"), Message("b", Form.EXTENDED, 0x220, "Ramp")))
NAMES = {(0, Form.BASE, 0x1A0): "PackOne", (1, Form.EXTENDED, 0x220): "Ramp"}
Test = Callable[[list[Row], int], bool]


def since(found: list[Row], i: int, same: bool) -> int | None:
    row = found[i]
    for j in range(i - 1, -1, -1):
        other = found[j]
        if not same or (other.bus, other.form, other.ident) == (row.bus, row.form, row.ident):
            return row.time - other.time
    return None


def holds(pattern: list[int | None], payload: bytes) -> bool:
    return any(
        all(p is None or payload[at + k] == p for k, p in enumerate(pattern))
        for at in range(len(payload) - len(pattern) + 1)
    )


def gap(compare: str, ns: int, same: bool) -> Test:
    def test(found: list[Row], i: int) -> bool:
        earlier = since(found, i, same)
        return earlier is not None and bool(COMPARISONS[compare](earlier, ns))

    return test


def moved(found: list[Row], i: int, byte: int | None = None) -> bool:
    """Whether a good frame differs from the good one of its identifier before."""
    row = found[i]
    for j in range(i - 1, -1, -1):
        other = found[j]
        if (other.bus, other.form, other.ident) == (row.bus, row.form, row.ident) and other.is_good:
            part = slice(None) if byte is None else slice(byte, byte + 1)
            return row.is_good and row.payload[part] != other.payload[part]
    return False


def near(test: Test, ns: int) -> Test:
    return lambda found, i: any(test(found, j) and abs(found[j].time - found[i].time) <= ns for j in range(len(found)))


def then(first: Test, second: Test, ns: int) -> Test:
    """The last match of the first part before a frame lies close enough."""

    def test(found: list[Row], i: int) -> bool:
        earlier = [j for j in range(i) if first(found, j)]
        return second(found, i) and bool(earlier) and found[i].time - found[earlier[-1]].time <= ns

    return test


def is_1a0(found: list[Row], i: int) -> bool:
    return found[i].ident == 0x1A0 and found[i].form == Form.BASE


def faulty(found: list[Row], i: int) -> bool:
    return found[i].faults != 0


# Each ask with what it means, said once more in the slowest obvious way.
TERMS: dict[str, Test] = {
    "": lambda found, i: True,
    "id:1A0": lambda found, i: found[i].ident == 0x1A0 and found[i].form == Form.BASE,
    "id:000001A0": lambda found, i: found[i].ident == 0x1A0 and found[i].form == Form.EXTENDED,
    "id:1A0..221": lambda found, i: 0x1A0 <= found[i].ident <= 0x221 and found[i].form == Form.BASE,
    "id:22?": lambda found, i: found[i].ident >> 4 == 0x22 and found[i].form == Form.BASE,
    "id:0A4,7FF": lambda found, i: found[i].ident in (0xA4, 0x7FF) and found[i].form == Form.BASE,
    "bus:b": lambda found, i: found[i].bus == 1,
    "name:pack*": lambda found, i: fnmatch(
        NAMES.get((found[i].bus, Form(found[i].form), found[i].ident), "").lower(), "pack*"
    ),
    "dir:tx": lambda found, i: bool(found[i].flags & Flag.TX),
    "dir:rx": lambda found, i: not found[i].flags & Flag.TX,
    "len>=4": lambda found, i: len(found[i].payload) >= 4,
    "len=0": lambda found, i: len(found[i].payload) == 0,
    'bytes:"40 ?? 02"': lambda found, i: holds([0x40, None, 0x02], found[i].payload),
    "bytes:43": lambda found, i: holds([0x43], found[i].payload),
    "bytes@1:40": lambda found, i: found[i].payload[1:2] == b"\x40",
    'bytes@0:"01 ??"': lambda found, i: found[i].payload[:1] == b"\x01" and len(found[i].payload) >= 2,
    "text:ca": lambda found, i: b"ca" in found[i].payload.lower(),
    "text:A": lambda found, i: b"a" in found[i].payload.lower(),
    "fault": lambda found, i: found[i].faults != 0,
    "fault:ack": lambda found, i: bool(found[i].faults & 8),
    "gap>20ms": gap(">", 20_000_000, True),
    "gap<=5ms": gap("<=", 5_000_000, True),
    "step<3ms": gap("<", 3_000_000, False),
    "step>=40ms": gap(">=", 40_000_000, False),
    "moved": moved,
    "moved@1": lambda found, i: moved(found, i, 1),
    "moved@0,6": lambda found, i: moved(found, i, 0) or moved(found, i, 6),
    "bit@6:1": lambda found, i: len(found[i].payload) > 0 and bool(found[i].payload[0] >> 6 & 1),
    "bit@9:0": lambda found, i: len(found[i].payload) > 1 and not found[i].payload[1] >> 1 & 1,
    "near(fault within 30ms)": near(faulty, 30_000_000),
    "near(id:1A0 fault, 60ms)": near(lambda found, i: is_1a0(found, i) and faulty(found, i), 60_000_000),
    "(fault) then (id:1A0) within 50ms": then(faulty, is_1a0, 50_000_000),
    "id:1A0 then fault within 50ms then len>3 within 90ms": then(
        then(is_1a0, faulty, 50_000_000), lambda found, i: len(found[i].payload) > 3, 90_000_000
    ),
    "at:50ms..200ms": lambda found, i: 50_000_000 <= found[i].time - min(r.time for r in found) <= 200_000_000,
    "at:..100ms": lambda found, i: found[i].time - min(r.time for r in found) <= 100_000_000,
}


@st.composite
def asks(draw: st.DrawFn) -> tuple[str, Test]:
    """A random ask and its meaning."""
    names = draw(st.lists(st.sampled_from(sorted(TERMS)[1:]), min_size=1, max_size=4))
    text, test = names[0], TERMS[names[0]]
    for name in names[1:]:
        how = draw(st.sampled_from(["or", "and", "", "not"]))
        other = TERMS[name]
        text, test = _joined(text, test, f"({name})", other, how)
    return text, test


def _joined(text: str, test: Test, name: str, other: Test, how: str) -> tuple[str, Test]:
    if how == "or":
        return f"({text}) or {name}", lambda found, i: test(found, i) or other(found, i)
    if how == "not":
        return f"({text}) not {name}", lambda found, i: test(found, i) and not other(found, i)
    return f"({text}) {how} {name}", lambda found, i: test(found, i) and other(found, i)


@pytest.mark.parametrize("text", sorted(TERMS))
@given(found=rows(40))
@settings(max_examples=15)
def test_each_term_means_what_it_says(text: str, found: list[Row]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        snapshot = recorded(Path(folder) / "r.keel", batch(found), dictionary=DICTIONARY)
        matches = find(snapshot, text)
        expected = [i for i in range(len(found)) if TERMS[text](found, i)]
        assert matches.numbers(0, len(matches)).tolist() == expected


@given(rows(50, ordered=False), asks(), st.integers(1, 49))
@settings(max_examples=40)
def test_asks_put_together_over_segments_and_journal(found: list[Row], ask: tuple[str, Test], cut: int) -> None:
    text, test = ask
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "r.keel"
        recorded(path, batch(found[:cut]), dictionary=DICTIONARY)
        if found[cut:]:
            writer = Writer(path)
            writer.append(batch(found[cut:]))
            writer._lock.close()
        matches = find(Recording(path).snapshot(), text)
        expected = [i for i in range(len(found)) if test(found, i)]
        assert matches.numbers(0, len(matches)).tolist() == expected
        assert len(matches) == matches.total == len(expected)
        for rank in range(0, len(expected), 7):
            assert matches.numbers(rank, rank + 3).tolist() == expected[rank : rank + 3]
            assert matches.rank(expected[rank]) == rank


@given(
    rows(50, ordered=False), st.sampled_from(["", "id:1A0", "fault or len>3"]), st.integers(0, 60), st.integers(0, 60)
)
@settings(max_examples=40)
def test_the_lens_leaves_only_what_lies_in_it(found: list[Row], text: str, start: int, length: int) -> None:
    lens = Span(START + start * 1_000_000, START + (start + length) * 1_000_000)
    with tempfile.TemporaryDirectory() as folder:
        snapshot = recorded(Path(folder) / "r.keel", batch(found))
        scene = scene_of(snapshot)
        everywhere = Matcher(parse(text, scene), scene).run(snapshot)
        matches = Matcher(parse(text, scene), scene).run(snapshot, lens)
        inside = [n for n in everywhere.numbers(0, 99).tolist() if lens.start <= found[n].time < lens.end]
        assert matches.numbers(0, 99).tolist() == inside
        assert matches.total == len(everywhere)


def test_a_growing_recording_is_matched_only_where_it_grew(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(recording_module, "PAGE_ROWS", 10)
    folder = new_recording(tmp_path / "r.keel")
    writer, reader = Writer(folder), Recording(folder)
    scene = scene_of(reader.snapshot())
    looked_at: list[int] = []

    class Counting(Matcher):
        def _match(self, scope):  # type: ignore[no-untyped-def]
            looked_at.append(len(scope.chunk))
            return super()._match(scope)

    matcher = Counting(parse("id:101", scene), scene)
    for step in range(6):
        found = [Row(START + (step * 8 + i) * 1000, 0x100 + i % 2, b"x") for i in range(8)]
        writer.append(batch(found))
        reader.refresh()
        matches = matcher.run(reader.snapshot())
        assert len(matches) == (step + 1) * 4
    # Full pages are looked at once; only the open page again and again.
    assert looked_at.count(10) == 4
    writer.close()


def test_the_first_match_at_a_moment_is_found(tmp_path: Path) -> None:
    found = [Row(START + i * 1_000_000, 0x100 + i % 3) for i in range(30)]
    matches = find(recorded(tmp_path / "r.keel", batch(found[:11]), batch(found[11:])), "id:101")
    assert matches.at_or_after(0) == 0
    assert matches.frame_at(0) == matches.numbers(0, 1)[0]
    assert matches.frame_at(START + 99_000_000) == matches.numbers(len(matches) - 1, len(matches))[0]
    assert matches.at_or_after(START + 13_000_000) == 4
    assert matches.at_or_after(START + 99_000_000) == len(matches)


def test_error_frames_have_no_payload_and_no_identifier(tmp_path: Path) -> None:
    details = Row(START + 1, 0, bytes(8), form=Form.NONE, flags=int(Flag.ERROR), faults=1)
    found = [Row(START, 0x1A0, b""), details, Row(START + 2, 0x1A0, bytes(8))]
    snapshot = recorded(tmp_path / "r.keel", batch(found))
    assert find(snapshot, "len=0").numbers(0, 9).tolist() == [0, 1]
    assert find(snapshot, "len=8").numbers(0, 9).tolist() == [2]
    assert find(snapshot, "id:none").numbers(0, 9).tolist() == [1]
    assert find(snapshot, "not id:none").numbers(0, 9).tolist() == [0, 2]


def test_an_ask_that_cannot_be_used_leaves_nothing(tmp_path: Path) -> None:
    snapshot = recorded(tmp_path / "r.keel", batch([Row(START, 0x1A0, b"")]))
    scene = scene_of(snapshot)
    assert len(Matcher(Nothing(), scene).run(snapshot)) == 0
    assert len(Matcher(all_of(Nothing(), parse("id:1A0")), scene).run(snapshot)) == 0


def test_what_came_before_counts_though_its_clock_was_ahead(tmp_path: Path) -> None:
    first, second = Row(START + 1_000_000, 0x0A4, b"", faults=1), Row(START, 0x1A0, b"")
    snapshot = recorded(tmp_path / "r.keel", batch([first]), batch([second]))
    found = find(snapshot, "fault then id:1A0 within 50ms")
    assert found.numbers(0, 9).tolist() == [1]
