"""One clock a recording: dated, or counted from a zero of its own, with times before it."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from keel import open as open_recording
from keel.ask.hints import unmet
from keel.ask.language import parse
from keel.ask.names import keys_of, scene_of
from keel.ask.times import moment_ns, time_text
from keel.errors import AskError, InputError
from keel.formats.importing import import_files
from keel.model.units import NS_PER_S
from keel.store.recording import Recording, Snapshot
from tests.command import keel
from tests.making import find

DATE = 1_767_262_632 * NS_PER_S
"""2026-01-01T10:17:12Z"""


def table(path: Path, *seconds: float) -> Path:
    rows = (f"{s:.3f},a,{0x100 + i:03X},01 02\n" for i, s in enumerate(seconds))
    path.write_text("time s,bus,id,data\n" + "".join(rows))
    return path


def imported(folder: Path, *files: Path, zero: int | None = None) -> Snapshot:
    import_files(list(files), folder, zero=zero)
    return Recording(folder).snapshot()


@pytest.fixture
def shot(tmp_path: Path) -> Snapshot:
    return imported(tmp_path / "shot.keel", table(tmp_path / "shot.csv", -0.5, -0.003, 0.25, 1.0))


def test_what_has_no_date_counts_from_its_own_zero(shot: Snapshot) -> None:
    assert not shot.manifest.is_dated and shot.zero == 0
    assert (shot.span.start, shot.span.end - 1) == (-NS_PER_S // 2, NS_PER_S)
    assert any("without a date" in note for note in shot.manifest.notes)


@pytest.mark.parametrize(
    ("ask", "ids"),
    [
        ("at:..0s", [0x100, 0x101]),
        ("at:-3ms..", [0x101, 0x102, 0x103]),
        ("at:-1s..-100ms", [0x100]),
        ("at:250ms..0.25s", [0x102]),
    ],
)
def test_asks_count_from_the_zero_and_before_it(shot: Snapshot, ask: str, ids: list[int]) -> None:
    matches = find(shot, ask)
    assert [int(shot.rows(n, n + 1).ident[0]) for n in matches.numbers(0, len(matches)).tolist()] == ids
    assert str(parse(ask, scene_of(shot))).startswith("at:")


def test_an_ask_beyond_either_end_says_where_the_recording_lies(shot: Snapshot) -> None:
    scene = scene_of(shot)
    for ask, said in (("at:2s..", "ends at 1s"), ("at:..-1s", "begins at -0.5s")):
        assert said in " ".join(unmet(parse(ask, scene), scene, keys_of(shot), shot.span))
    with pytest.raises(AskError, match="ends before it begins"):
        parse("at:-1s..-2s", scene)


@pytest.mark.parametrize("ns", [-1, 0, -1_500_000_000, 12_345_678])
def test_moments_are_read_as_they_are_written(ns: int) -> None:
    assert moment_ns(time_text(ns)) == ns


def test_dates_are_kept_and_a_zero_makes_some(tmp_path: Path) -> None:
    dated = imported(tmp_path / "dated.keel", table(tmp_path / "dated.csv", DATE / NS_PER_S, DATE / NS_PER_S + 1))
    assert dated.manifest.is_dated and dated.zero == dated.span.start == DATE
    plain = table(tmp_path / "plain.csv", 1.0, 2.0)
    given = imported(tmp_path / "given.keel", plain, zero=DATE)
    assert given.manifest.is_dated and given.span.start == DATE + NS_PER_S
    both = imported(tmp_path / "both.keel", tmp_path / "dated.csv", plain, zero=DATE)
    assert both.rows(0, 4).time.tolist() == [DATE, DATE + NS_PER_S, DATE + NS_PER_S, DATE + 2 * NS_PER_S]


@pytest.mark.parametrize("turned", [False, True])
def test_dated_and_undated_are_not_mixed(tmp_path: Path, turned: bool) -> None:
    files = [table(tmp_path / "dated.csv", DATE / NS_PER_S), table(tmp_path / "plain.csv", 1.0)]
    with pytest.raises(InputError, match="--zero"):
        imported(tmp_path / "x.keel", *(files[::-1] if turned else files))
    assert not (tmp_path / "x.keel").exists()


def test_commands_take_and_say_times_from_the_zero(tmp_path: Path) -> None:
    table(tmp_path / "shot.csv", -0.5, -0.003, 0.25, 1.0)
    done = keel("import", tmp_path / "shot.csv", "-o", tmp_path / "shot.keel")
    assert done.returncode == 0 and "without a date" in done.stderr
    lines = keel("frames", tmp_path / "shot.keel", "--ask", "at:..0s").stdout.splitlines()
    assert [line.split()[0] for line in lines] == ["-0.500000", "-0.003000"]
    stats = json.loads(keel("stats", tmp_path / "shot.keel", "--json").stdout)
    assert stats["start"] == 0 and stats["identifiers"][0]["first"] == -0.5
    assert len(open_recording(tmp_path / "shot.keel").frames(start=-0.1, end=0.3)) == 2
    for zero, said in (("soon", "is no date"), ("1971-01-01", "before 1980")):
        wrong = keel("import", tmp_path / "shot.csv", "-o", tmp_path / "y.keel", "--zero", zero)
        assert wrong.returncode and said in wrong.stderr
    assert (
        keel(
            "import", tmp_path / "shot.csv", "-o", tmp_path / "y.keel", "--zero", "2026-01-01T12:17:12+02:00"
        ).returncode
        == 0
    )
    assert open_recording(tmp_path / "y.keel").start == DATE - NS_PER_S // 2
