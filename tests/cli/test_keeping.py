"""The commands that keep, check and exchange recordings, as a person or a script calls them."""

from __future__ import annotations

import json
from pathlib import Path
from xml.etree import ElementTree

import pytest

from keel.model.faults import Fault
from keel.store.index import index_path
from keel.store.recording import Recording
from keel.store.segment import segment_path
from tests.command import keel_apart
from tests.command import keel_bytes as keel
from tests.making import START, Row, batch, recorded


@pytest.fixture
def recording(tmp_path: Path) -> Path:
    found = [
        Row(START + i * 10_000_000, 0x0A4 + i % 2, bytes([i % 256]), faults=int(Fault.CRC) if i % 50 == 7 else 0)
        for i in range(400)
    ]
    recorded(tmp_path / "r.keel", batch(found))
    return tmp_path / "r.keel"


def test_verify_says_what_is_wrong_and_repair_mends_it(recording: Path) -> None:
    assert keel("verify", str(recording)).returncode == 0
    index_path(segment_path(recording, 1)).write_bytes(b"nothing")
    wrong = keel("verify", str(recording), "--json")
    assert wrong.returncode == 1
    assert json.loads(wrong.stdout)["findings"][0]["file"] == "segments/000001.index"
    mended = keel("verify", str(recording), "--repair")
    assert mended.returncode == 0 and b"index was made anew" in mended.stderr
    assert b"every checksum is right" in mended.stdout


def test_a_flipped_byte_is_said_whatever_is_asked(recording: Path) -> None:
    path = segment_path(recording, 1)
    content = bytearray(path.read_bytes())
    content[len(content) // 2] ^= 1
    path.write_bytes(content)
    done = keel("stats", str(recording))
    assert done.returncode == 0 and b"wrong checksum; keel verify --repair" in done.stderr


def test_pack_and_unpack_in_place_and_beside(recording: Path, tmp_path: Path) -> None:
    before = keel("stats", str(recording), "--json").stdout
    assert keel("pack", str(recording), "--to", str(tmp_path / "kept")).returncode == 0
    assert b"keel unpack" in keel("stats", str(tmp_path / "kept.keel")).stderr
    assert keel("stats", str(recording), "--json").stdout == before
    assert keel("pack", str(recording)).returncode == 0
    assert keel("unpack", str(recording)).returncode == 0
    assert keel("stats", str(recording), "--json").stdout == before


@pytest.mark.parametrize("form", ["pcapng", "csv", "parquet"])
def test_export_honours_ask_and_span_and_comes_back(recording: Path, tmp_path: Path, form: str) -> None:
    out = tmp_path / f"x.{form}"
    done = keel("export", str(recording), str(out), "--ask", "id:0A4", "--from", "1", "--to", "2")
    assert done.returncode == 0 and b"50 frames" in done.stderr
    done = keel("import", str(out), "-o", str(tmp_path / "again.keel"))
    assert done.returncode == 0, done.stderr
    assert b"(" in done.stderr.splitlines()[0]
    again = Recording(tmp_path / "again.keel").snapshot()
    assert again.frames == 50 and again.rows(0, 1).time.tolist() == [START + 1_000_000_000]


def test_a_pipe_is_recorded_and_what_was_skipped_is_noted(recording: Path, tmp_path: Path) -> None:
    text = b"".join(b"(1700000000.%06d) can 1A0#%02X\n" % (i, i % 256) for i in range(3000)) + b"nonsense\n"
    done = keel_apart("record", "--from", "pipe", str(tmp_path / "p.keel"), given=text)
    assert done.returncode == 0, done.stderr
    snapshot = Recording(tmp_path / "p.keel").snapshot()
    assert snapshot.frames == 3000 and snapshot.manifest.bus_names == ["can"]
    assert "skipped 1" in snapshot.manifest.notes[0]
    keel("export", str(recording), str(tmp_path / "x.pcapng"))
    again = keel_apart("record", "--from", "pipe", str(tmp_path / "q.keel"), given=(tmp_path / "x.pcapng").read_bytes())
    assert again.returncode == 0
    assert Recording(tmp_path / "q.keel").snapshot().frames == 400


def test_checks_pass_or_fail_with_figures(recording: Path, tmp_path: Path) -> None:
    rules = tmp_path / "rules"
    rules.write_text("cycle(0A4) within 19ms..41ms\n# a remark\ncount(fault:crc) < 3 per 1s\nload(a) < 60%\ncount(\n")
    done = keel("check", str(recording), "--rules", str(rules), "--json", "--junit", str(tmp_path / "x.xml"))
    assert done.returncode == 1
    checks = json.loads(done.stdout)["checks"]
    assert [c["passed"] for c in checks] == [True, True, True, None]
    assert "20.000 ms" in checks[0]["figure"] and checks[1]["figure"] == "at most 2"
    suite = ElementTree.parse(tmp_path / "x.xml").getroot()
    assert (suite.get("tests"), suite.get("failures"), suite.get("errors")) == ("4", "0", "1")
    rules.write_text("count(fault) = 8\n")
    assert keel("check", str(recording), "--rules", str(rules)).returncode == 0
    rules.write_text("count(fault) < 8\n")
    failed = keel("check", str(recording), "--rules", str(rules))
    assert failed.returncode == 1 and b"FAILED" in failed.stdout and b"8 frames" in failed.stdout


def test_a_preview_reads_nothing_in(tmp_path: Path) -> None:
    table = tmp_path / "t.csv"
    table.write_text("time;id;data\n0,5;1A0;00 11\n0,6;1A0;00 12\n")
    done = keel("import", str(table), "--preview")
    assert b"separator=semicolon" in done.stdout and b"00 11" in done.stdout
    done = keel("import", str(table), "--preview", "--layout", "unit=fortnights")
    assert done.returncode == 1 and b"is not understood" in done.stderr
