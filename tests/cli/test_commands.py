"""The commands as a script uses them: output, errors, exit codes."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from keel.model.span import Mark
from keel.store.manifest import edit_manifest
from keel.store.recording import Recording
from tests.command import keel


@pytest.fixture(scope="module")
def log(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A log of known content, imported."""
    folder = tmp_path_factory.mktemp("log")
    lines = [f"(1700000000.{i * 10_000:06d}) bus0 1A0#{i // 10:04X}" for i in range(100)]
    lines.insert(50, "not a frame")
    lines += ["(1700000002.000000) bus0 18FECA17##1" + "AB" * 12, "(1700000002.500000) bus1 220#R4"]
    lines += ["(1700000003.000000) bus1 20000020#0000000000000000"]
    (folder / "x.log").write_text("\r\n".join(lines))
    done = keel("import", folder / "x.log", "-o", folder / "x.keel")
    assert done.returncode == 0
    assert "103 frames" in done.stderr and "skipped 1: no time in brackets (first at line 51)" in done.stderr
    assert done.stdout == ""
    return folder / "x.keel"


def test_json_lines_hold_every_field(log: Path) -> None:
    done = keel("frames", log, "--json")
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    assert len(rows) == 103 and done.returncode == 0
    assert rows[12] == {
        "number": 12, "t": 1700000000120000000, "t_end": None, "bus": "bus0", "medium": "can", "id": "1A0",
        "ext": False, "dir": "rx", "kind": "data", "fd": False, "brs": False, "esi": False, "len": 2, "dlc": 2,
        "payload": "0001", "header": None, "faults": [],
    }  # fmt: skip
    fd, remote, error = rows[100:]
    assert (fd["id"], fd["ext"], fd["fd"], fd["brs"], fd["len"], fd["dlc"]) == ("18FECA17", True, True, True, 12, 9)
    assert (remote["kind"], remote["dlc"], remote["len"], remote["bus"]) == ("remote", 4, 0, "bus1")
    assert (error["kind"], error["id"], error["faults"]) == ("error", None, ["ack"])


def test_ask_and_limit_narrow_what_is_printed(log: Path) -> None:
    rows = keel("frames", log, "--json", "--ask", "id:1A0 bytes@1:03", "--limit", "4").stdout.splitlines()
    assert [json.loads(r)["payload"] for r in rows] == ["0003"] * 4
    assert keel("frames", log, "--json", "--ask", "len>64").stdout == ""
    assert keel("frames", log, "--limit", "0").stdout == ""


def test_csv_has_a_header_and_as_many_rows(log: Path) -> None:
    rows = list(csv.DictReader(io.StringIO(keel("frames", log, "--csv", "--ask", "bus:bus1").stdout)))
    assert [r["kind"] for r in rows] == ["remote", "error"]
    assert rows[0]["number"] == "102" and rows[0]["elapsed_s"] == "2.500000000"
    assert keel("frames", log, "--csv", "--ask", "len>64").stdout.startswith("number,t,elapsed_s")


def test_text_lines_are_aligned(log: Path) -> None:
    lines = keel("frames", log, "--ask", "fault or id:220").stdout.splitlines()
    assert len(lines) == 2
    assert "remote, DLC 4" in lines[0] and "✕ ack" in lines[1]


def test_stats_count_by_bus_and_identifier(log: Path) -> None:
    report = json.loads(keel("stats", log, "--json").stdout)
    assert [(b["bus"], b["frames"]) for b in report["buses"]] == [("bus0", 101), ("bus1", 2)]
    row = report["identifiers"][0]
    assert (row["bus"], row["id"], row["frames"], row["payload_changes"]) == ("bus0", "1A0", 100, 9)
    assert row["first"] == 0 and row["last"] == pytest.approx(0.99)
    for name in ("mean", "min", "max"):
        assert row[f"cycle_{name}"] == pytest.approx(0.01)
    assert row["cycle_std"] == pytest.approx(0, abs=1e-9)
    assert 0 < report["buses"][0]["load_mean"] < report["buses"][0]["load_peak"] < 0.1
    only = json.loads(keel("stats", log, "--json", "--ask", "id:220").stdout)
    assert [r["id"] for r in only["identifiers"]] == ["220"]
    table = keel("stats", log).stdout
    assert "1A0" in table and "bus1" in table


def test_hunt_answers_in_the_promised_form(voyage: Path, tmp_path: Path) -> None:
    marks = tmp_path / "m.csv"
    marks.write_text("19.7,24.4\n34.6,38.3\n")
    answer = json.loads(keel("hunt", voyage, "--marks", marks, "--json").stdout)
    keys = {"evidence", "verdict", "chance", "reason", "nothing_probability", "candidates", "notes", "next"}
    assert set(answer) == keys and answer["verdict"] in ("found", "undecided")
    best = next(c for c in answer["candidates"] if c["id"] == "220")
    assert {c["id"] for c in answer["candidates"][:2]} == {"220", "221"}
    known = {
        "bus",
        "id",
        "start",
        "length",
        "order",
        "signed",
        "header",
        "mux",
        "scale",
        "offset",
        "lag",
        "score",
        "shape",
        "family",
        "why",
    }
    assert set(best) == known
    assert (best["bus"], best["id"], best["start"], best["length"], best["order"]) == ("A", "220", 7, 12, "big")
    assert answer["nothing_probability"] < 0.5
    scores = [c["score"] for c in answer["candidates"]]
    assert all(0 <= s <= 1 for s in scores) and max(scores) - scores[0] < 0.1
    assert "220" in keel("hunt", voyage, "--marks", marks).stdout
    marks.write_text("2,4\n10,11\n")
    nothing = json.loads(keel("hunt", voyage, "--marks", marks, "--json").stdout)
    assert nothing["verdict"] != "found" and nothing["reason"]


def test_hunt_follows_the_marks_of_one_try(voyage: Path, tmp_path: Path) -> None:
    folder = tmp_path / "tried.keel"
    shutil.copytree(voyage, folder)
    start = Recording(folder).snapshot().span.start
    with edit_manifest(folder) as manifest:
        seconds = (19.7, 24.4, 34.6, 38.3, 50.0, 53.0)
        names = ("ramp",) * 4 + ("",) * 2
        marks = zip(seconds, names, strict=True)
        manifest.marks = [Mark(i + 1, start + int(t * 1e9), of=name) for i, (t, name) in enumerate(marks)]
    last = keel("hunt", folder, "--json")
    assert json.loads(last.stdout)["evidence"] == "1 marked span" and "others: ramp" in last.stderr
    chosen = json.loads(keel("hunt", folder, "--try", "ramp", "--json").stdout)
    assert chosen["evidence"] == "2 marked spans" and "221" in {c["id"] for c in chosen["candidates"][:2]}
    none = keel("hunt", folder, "--try", "horn")
    assert none.returncode == 2 and "there are marks of" in none.stderr


def test_hunt_without_evidence_takes_payloads_apart(voyage: Path) -> None:
    answer = json.loads(keel("hunt", voyage, "--structure", "--json").stdout)
    assert set(answer) == {"identifiers"}
    helm = next(i for i in answer["identifiers"] if i["id"] == "0A4")
    assert helm["bus"] == "A" and helm["fields"]
    assert all(
        set(f) == {"start", "length", "order", "signed", "kind", "algorithm", "header", "mux"}
        for i in answer["identifiers"]
        for f in i["fields"]
    )
    kinds = {f["kind"] for i in answer["identifiers"] for f in i["fields"]}
    assert {"value", "counter", "checksum", "flag", "constant"} <= kinds
    assert "checksum" in keel("hunt", voyage, "--structure").stdout


def test_hunt_against_tells_what_is_wrong(voyage: Path, log: Path) -> None:
    same = json.loads(keel("hunt", voyage, "--against", voyage, "--json").stdout)
    assert same == {"findings": []}
    other = json.loads(keel("hunt", voyage, "--against", log, "--json").stdout)["findings"]
    assert all(set(f) == {"bus", "id", "kind", "field", "score", "times", "why"} for f in other)
    assert {"missing", "new_identifier"} == {f["kind"] for f in other}
    assert {f["bus"] for f in other if f["kind"] == "new_identifier"} <= {"bus0", "bus1"}


def test_hunt_follows_readings_a_series_and_a_value(voyage: Path, tmp_path: Path) -> None:
    said = keel("frames", voyage, "--ask", "id:220", "--json", "--limit", "100000").stdout.splitlines()
    angle = [json.loads(line) for line in said]
    read = tmp_path / "r.csv"
    # The angle: 12 bits from bit 7 on, big-endian, a tenth of a degree each.
    payloads = [bytes.fromhex(f["payload"]) for f in angle]
    first = angle[0]["t"]
    rows = [((f["t"] - first) / 1e9, (p[0] << 4 | p[1] >> 4) * 0.1) for f, p in zip(angle, payloads, strict=True)]
    read.write_text("time,angle\n" + "".join(f"{t:.3f},{v:.1f}\n" for t, v in rows[::60]))
    for option in ("--readings", "--series"):
        answer = json.loads(keel("hunt", voyage, option, read, "--json").stdout)
        best = answer["candidates"][0]
        assert best["id"] == "220" and best["scale"] == pytest.approx(0.1, rel=0.02)
        assert answer["verdict"] == "found" and answer["nothing_probability"] < 0.1
        assert "by chance" in answer["chance"]
        assert "220" in keel("hunt", voyage, option, read).stdout
    at, value = next(row for row in rows if 8 < row[1] < 15)
    exact = json.loads(keel("hunt", voyage, "--value", f"{value:.1f}", "--at", f"{at:.2f}", "--json").stdout)
    assert "220" in {c["id"] for c in exact["candidates"]}


def test_a_draft_reads_back_and_leaves_what_a_person_named(voyage: Path, tmp_path: Path) -> None:
    for name in ("draft.toml", "draft.dbc"):
        file = tmp_path / name
        assert "messages" in keel("dict", "draft", voyage, "-o", file).stdout
        assert keel("dict", "check", file).returncode == 0
    assert "checksum; CRC-8" in (tmp_path / "draft.dbc").read_text(encoding="latin-1")
    file = tmp_path / "draft.toml"
    text = file.read_text()
    assert "CRC-8" in text and 'role = "counter"' in text and "a copy of value_" in text
    named = text.replace('"value_0A4_0"', '"rudder"', 1).replace('"Message0A4"', '"Helm"', 1)
    file.write_text(named)
    keel("dict", "draft", voyage, "-o", file)
    assert file.read_text() == named
    bare = keel("dict", "draft", voyage, "-o", tmp_path / "none.toml", "--ask", "id:7FF")
    assert bare.returncode != 0 and "no frame that meets the ask" in bare.stderr


def test_a_dictionary_is_checked(tmp_path: Path) -> None:
    good = 'BU_: Helm\nBO_ 416 Pack: 8 Helm\n SG_ volts : 7|16@0+ (0.1,0) [0|0] "V" Helm\n'
    (tmp_path / "a.dbc").write_text(good)
    done = keel("dict", "check", tmp_path / "a.dbc")
    assert done.returncode == 0 and "1 messages, 1 signals, 1 nodes" in done.stdout
    (tmp_path / "b.dbc").write_text(good + ' SG_ amps : 8|99@1+ (1,0) [0|0] "A" Helm\n')
    done = keel("dict", "check", tmp_path / "b.dbc", "--json")
    answer = json.loads(done.stdout)
    assert done.returncode == 1 and answer["signals"] == 1
    assert (answer["problems"][0]["line"], "64 bits" in answer["problems"][0]["what"]) == (4, True)


def test_drawings_are_written(voyage: Path, tmp_path: Path) -> None:
    assert keel("draw", "load", voyage, "-o", tmp_path / "l.svg").returncode == 0
    assert keel("draw", "cycles", voyage, "--ask", "id:0A4", "-o", tmp_path / "c.pdf").returncode == 0
    assert (tmp_path / "l.svg").read_text().startswith("<?xml")
    assert (tmp_path / "c.pdf").read_bytes().startswith(b"%PDF")
    wrong = keel("draw", "load", voyage, "-o", tmp_path / "l.png")
    assert wrong.returncode == 1 and "an ending of .svg or .pdf" in wrong.stderr


def test_the_bench_sails_the_same_voyage_twice(tmp_path: Path) -> None:
    for name in ("a", "b"):
        done = keel("bench", "--seconds", "3", "--seed", "9", "--out", tmp_path / f"{name}.log", "--at", "1s:ramp=down")
        assert done.returncode == 0
    assert (tmp_path / "a.log").read_bytes() == (tmp_path / "b.log").read_bytes()
    assert "(1767225600." in (tmp_path / "a.log").read_text()[:40]
    again = keel("import", tmp_path / "a.log", "-o", tmp_path / "a.keel")
    assert again.returncode == 0 and "skipped" not in again.stderr


@pytest.mark.parametrize(
    "arguments, code, complaint",
    [
        (["frames", "nowhere"], 1, "nowhere: not a recording"),
        (["frames"], 2, "Missing argument"),
        (["frames", "{log}", "--json", "--csv"], 2, "cannot both be"),
        (["frames", "{log}", "--ask", "gap>12"], 2, "keel: the ask, at 5: “12” is not understood"),
        (["frames", "{log}", "--ask", "bus:bus7"], 2, "no bus is called “bus7”; did you mean bus"),
        (["frames", "{log}", "--limit", "-1"], 2, "--limit"),
        (["nonsense"], 2, "No such command"),
        (["bench", "ramp=sideways", "--to", "x"], 2, "ramp takes up, stop, down"),
        (["bench", "--seconds", "3"], 2, "go together"),
        (["bench", "--to", "{log}", "ramp=up"], 1, "no recorder is at work"),
        (["bench", "--seconds", "1", "--out", "{log}"], 1, "already"),
        (["import", "/nowhere/x.log", "-o", "y"], 1, "cannot be read"),
        (["import", "{log}/recording.json", "-o", "{tmp}/y"], 1, "no format recognises"),
        (["record", "--from", "bench", "{log}"], 1, "has the buses bus0, bus1, but frames come from A, B"),
        (["record", "--from", "nothing", "{tmp}/y"], 1, "no such source; expected bench"),
        (["hunt", "{log}", "--marks", "/nowhere"], 1, "cannot be read"),
        (["hunt", "{log}", "--readings", "/nowhere"], 1, "lines of time,value"),
        (["hunt", "{log}", "--structure", "--value", "3"], 2, "stand alone"),
        (["hunt", "{log}", "--value", "3", "--at", "noon"], 2, "seconds were expected"),
        (["dict", "check", "/nowhere"], 1, "a signal database"),
        (["open", "/nowhere/else"], 1, "no such recording or file"),
    ],
)
def test_wrong_use_gets_one_clear_line(
    log: Path, tmp_path: Path, arguments: list[str], code: int, complaint: str
) -> None:
    done = keel(*(a.format(log=log, tmp=tmp_path) for a in arguments))
    assert done.returncode == code
    assert complaint in done.stderr
    assert "Traceback" not in done.stderr and done.stdout == ""


@pytest.mark.parametrize("command", ["demo", "open", "record", "import", "frames", "stats", "hunt", "draw", "bench"])
def test_every_command_explains_itself_with_an_example(command: str) -> None:
    done = keel(command, "--help")
    assert done.returncode == 0
    assert "Example" in done.stdout and f"keel {command}" in done.stdout


def test_a_reader_that_has_enough_is_no_error(log: Path) -> None:
    line = f"{sys.executable} -m keel frames {log} --json | head -1; echo ${{PIPESTATUS[0]}}"
    done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "0" and "Traceback" not in done.stderr


def test_the_app_wants_a_terminal(log: Path) -> None:
    done = keel("open", log)
    assert done.returncode == 1 and "needs a terminal" in done.stderr


def test_a_live_bench_is_worked_from_the_command_line(tmp_path: Path) -> None:
    folder = tmp_path / "live.keel"
    command = [sys.executable, "-m", "keel", "record", "--from", "bench", str(folder), "--speed", "5"]
    recorder = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    try:
        status = folder / "status.json"
        while not status.exists():
            assert recorder.poll() is None
            time.sleep(0.05)
        assert keel("bench", "--to", folder, "ramp=down", "fault-panel=off").returncode == 0
        while json.loads(status.read_text())["controls"].get("ramp") != "down":
            assert recorder.poll() is None
            time.sleep(0.05)
        busy = keel("record", "--from", "bench", folder)
        assert busy.returncode == 1 and "another recorder is writing" in busy.stderr
    finally:
        recorder.terminate()
        _, said = recorder.communicate(timeout=60)
    assert recorder.returncode == 0 and "frames added" in said
    assert not list((folder / "journal").iterdir())
    report = json.loads(keel("stats", folder, "--json").stdout)
    assert sum(b["frames"] for b in report["buses"]) > 0


def test_names_on_the_shelf_need_no_path(shelf_of_its_own: Path) -> None:
    shelf_of_its_own.mkdir(parents=True)
    assert keel("bench", "--seconds", "1", "--out", shelf_of_its_own / "short.keel").returncode == 0
    assert len(keel("frames", "short", "--limit", "3").stdout.splitlines()) == 3
    assert os.environ["KEEL_HOME"] == str(shelf_of_its_own)


def test_all_that_is_compiled_can_be_compiled_beforehand() -> None:
    done = keel("prepare")
    assert (done.returncode, done.stderr.strip()) == (0, "ready")
