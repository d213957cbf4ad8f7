"""The commands about signals, dictionaries, comparing and drawing, as scripts call them."""

from __future__ import annotations

import csv
import io
import json
import shutil
from pathlib import Path

import pyarrow.parquet as pq
import pytest

from keel.bench.messages import full_dictionary
from keel.signals.loading import load_dictionary, save_dictionary
from tests.command import keel


@pytest.fixture(scope="module")
def dictionary(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Everything there is to know of the ferry, in the industry's form."""
    path = tmp_path_factory.mktemp("dictionary") / "full.dbc"
    save_dictionary(full_dictionary(), path)
    return path


def test_signals_come_in_the_promised_form(voyage: Path, dictionary: Path) -> None:
    chosen = ("--dict", dictionary, "--signal", "BowRampState.*,way", "--ask", "at:20s..21s")
    rows = [json.loads(line) for line in keel("signals", voyage, *chosen, "--json").stdout.splitlines()]
    assert rows and all(list(r) == ["t", "bus", "id", "signal", "value", "raw", "unit", "text"] for r in rows)
    assert {r["signal"] for r in rows} == {
        *(f"BowRampState.{s}" for s in ("angle", "lock", "supply", "counter", "sum")),
        "ThrusterCommand.way",
    }
    angle = next(r for r in rows if r["signal"] == "BowRampState.angle")
    assert angle["value"] == pytest.approx(angle["raw"] * 0.1) and angle["unit"] == "°" and angle["text"] is None
    lock = next(r for r in rows if r["signal"] == "BowRampState.lock")
    assert lock["text"] in ("free", "engaged")
    times = [r["t"] for r in rows]
    assert times == sorted(times)


def test_csv_json_and_parquet_say_the_same(voyage: Path, dictionary: Path, tmp_path: Path) -> None:
    chosen = ("--dict", dictionary, "--signal", "Pack*.temperature", "--ask", "at:0s..5s")
    rows = [json.loads(line) for line in keel("signals", voyage, *chosen, "--json").stdout.splitlines()]
    table = list(csv.DictReader(io.StringIO(keel("signals", voyage, *chosen, "--csv").stdout)))
    assert keel("signals", voyage, *chosen, "--parquet", tmp_path / "v.parquet").returncode == 0
    stored = pq.read_table(tmp_path / "v.parquet")
    assert len(rows) == len(table) == stored.num_rows > 80
    for name in ("value", "raw"):
        assert stored[name].to_pylist() == [r[name] for r in rows]
        assert [float(t[name]) for t in table] == [float(r[name]) for r in rows]
    assert stored["signal"].to_pylist() == [r["signal"] for r in rows] == [t["signal"] for t in table]
    assert len(keel("signals", voyage, *chosen).stdout.splitlines()) == len(rows)


def test_without_a_dictionary_given_the_recordings_own_is_used(voyage: Path, dictionary: Path, tmp_path: Path) -> None:
    copy = tmp_path / "copy.keel"
    shutil.copytree(voyage, copy)
    unknown = keel("signals", copy, "--signal", "angle")
    assert unknown.returncode == 1 and "no signal is called “angle”" in unknown.stderr
    assert "is used for bus A" in keel("dict", "use", copy, dictionary, "--bus", "A").stdout
    assert "angle" in keel("signals", copy, "--signal", "angle", "--ask", "at:0s..1s").stdout
    assert "rises" not in keel("frames", copy, "--ask", "rises:BowRampState.angle", "--limit", "3").stderr
    listed = json.loads(keel("dict", "list", copy, "--json").stdout)
    assert [(d["name"], d["bus"]) for d in listed] == [("full", "A")]
    assert keel("dict", "drop", copy, "full").returncode == 0
    assert json.loads(keel("dict", "list", copy, "--json").stdout) == []
    assert "no dictionary called “full”" in keel("dict", "drop", copy, "full").stderr


def test_dictionaries_are_converted_and_merged(dictionary: Path, tmp_path: Path) -> None:
    done = keel("dict", "convert", dictionary, "--to", tmp_path / "full.toml")
    assert done.returncode == 0 and "35 messages" in done.stdout
    back = keel("dict", "convert", tmp_path / "full.toml", "--to", tmp_path / "back.dbc")
    assert back.returncode == 0
    assert load_dictionary(tmp_path / "back.dbc").dictionary.messages == load_dictionary(dictionary).dictionary.messages
    mine = tmp_path / "mine.toml"
    mine.write_text('keel = 1\n[[message]]\nname = "Ramp"\nid = "220"\nnonsense = 1\n')
    merged = keel("dict", "merge", mine, dictionary, "-o", tmp_path / "all.toml")
    assert merged.returncode == 0 and "unknown key “nonsense”" in merged.stderr
    found = load_dictionary(tmp_path / "all.toml").dictionary
    assert len(found.messages) == 35 and found.messages[0].name == "Ramp" and found.messages[0].signal("angle")
    assert json.loads(keel("dict", "schema").stdout)["title"] == "Keel dictionary"
    assert keel("dict", "check", mine).returncode == 1


def test_two_recordings_are_compared(voyage: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.keel"
    assert keel("bench", "--seconds", "20", "--seed", "3", "--out", other, "--at", "5s:lights=on").returncode == 0
    report = tmp_path / "report.html"
    done = keel("compare", voyage, other, "--span-a", "0..20", "--json", "--html", report)
    answer = json.loads(done.stdout)
    assert (
        set(answer) == {"a", "b", "aligned", "buses", "notes", "problem", "differences"}
        and answer["a"]["seconds"] == 20
    )
    lights = next(d for d in answer["differences"] if d["signal"] == "lights" and d["kind"] == "state")
    assert (lights["bus"], lights["id"], lights["name"]) == ("B", "18EF2117", "DoorSwitches")
    assert lights["time_b"] == pytest.approx(5, abs=0.3) and lights["time_a"] is None
    page = report.read_text()
    assert page.count("<svg") >= 2 and "DoorSwitches" in page
    assert "lights is “on” only in the other" in keel("compare", voyage, other, "--span-a", "0..20").stdout
    same = json.loads(keel("compare", voyage, voyage, "--align", "mark", "--json").stdout)
    assert same["differences"] == []
    assert "no stretch of time" in keel("compare", voyage, voyage, "--span-a", "9..3").stderr


@pytest.mark.parametrize(
    "what, more",
    [
        ("values", ["--signal", "Pack*.voltage,pump"]),
        ("loom", ["--ask", "id:220"]),
        ("ribbon", ["--ask", "id:1A0"]),
        ("candidate", ["--marks", "{marks}"]),
    ],
)
def test_everything_is_drawn_as_svg_and_pdf(voyage: Path, tmp_path: Path, what: str, more: list[str]) -> None:
    marks = tmp_path / "m.csv"
    marks.write_text("19.7,24.4\n34.6,38.3\n")
    given = [m.format(marks=marks) for m in more]
    svg, pdf = tmp_path / "d.svg", tmp_path / "d.pdf"
    for path in (svg, pdf):
        done = keel("draw", what, voyage, "-o", path, *given)
        assert done.returncode == 0, done.stderr
    assert "<svg" in svg.read_text() and pdf.read_bytes().startswith(b"%PDF")


def test_evidence_of_several_kinds_is_searched_together(voyage: Path, tmp_path: Path) -> None:
    marks = tmp_path / "m.csv"
    marks.write_text("19.7,24.4\n34.6,38.3\n")
    rows = keel("signals", voyage, "--signal", "BowRampState.supply", "--csv").stdout.splitlines()
    assert len(rows) > 100
    both = json.loads(keel("hunt", voyage, "--marks", marks, "--value", "416", "--json").stdout)
    assert " and " in both["evidence"] and both["candidates"][0]["id"] in ("220", "221") and both["next"]
