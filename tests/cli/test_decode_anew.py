"""``keel decode REC --bus``: a line of a recording read again, with other settings; and ``frames --fields``."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from keel.store.manifest import Comment, edit_manifest
from keel.store.recording import Recording
from tests.cli.test_decode import CAN_LINE, TEXT, frames
from tests.command import keel
from tests.lines.waves import vcd, volts
from tests.lines.wires import uart, wave


@pytest.fixture
def recording(tmp_path: Path) -> Path:
    """A CAN line and a serial line whose messages are three bytes each."""
    data = bytes(range(1, 31))
    talk = wave(uart(data, 9600, 8, "even", pauses=[0, 0, 0] + [6, 0, 0] * 9))
    (tmp_path / "p.vcd").write_bytes(vcd(bus=wave(CAN_LINE), talk=talk))
    done = keel("decode", tmp_path / "p.vcd", "-o", tmp_path / "out.keel")
    assert done.returncode == 0, done.stderr
    return tmp_path


def of(folder: Path, bus: str) -> list[dict[str, Any]]:
    return [one for one in frames(folder) if one["bus"] == bus]


def again(folder: Path, *options: str) -> dict[str, Any]:
    done = keel("decode", folder / "out.keel", "--bus", "talk", "--json", *options)
    assert done.returncode == 0, done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    return found


def test_one_line_is_read_anew_and_taken_back(recording: Path) -> None:
    before = frames(recording)
    (line,) = again(recording, "--as", "uart", "--set", "parity=even", "--set", "length=3")["lines"]
    assert (line["bus"], line["frames"], line["settings"]["length"]) == ("talk", 10, 3)
    assert [one["len"] for one in of(recording, "talk")] == [3] * 10
    assert of(recording, "bus") == [
        {**one, "number": now["number"]}
        for one, now in zip((o for o in before if o["bus"] == "bus"), of(recording, "bus"), strict=True)
    ]
    snapshot = Recording(recording / "out.keel").snapshot()
    assert snapshot.manifest.lines[1].given == ("code", "parity", "length") and snapshot.manifest.generation == 1
    (line,) = again(recording, "--as", "uart", "--set", "length=5")["lines"]
    assert line["frames"] == 6
    assert keel("decode", recording / "out.keel", "--undo").returncode == 0
    assert [one["len"] for one in of(recording, "talk")] == [3] * 10
    assert keel("verify", recording / "out.keel").returncode == 0


def test_what_is_said_of_frames_stays_with_them(recording: Path) -> None:
    with edit_manifest(recording / "out.keel") as manifest:
        manifest.comments = [Comment(one["number"], one["bus"]) for one in frames(recording)[::5]]
    again(recording, "--as", "uart", "--set", "length=1")
    manifest = Recording(recording / "out.keel").snapshot().manifest
    now = frames(recording)
    assert manifest.comments and all(now[one.number]["bus"] == one.text for one in manifest.comments)


def test_what_is_set_by_hand_is_obeyed_and_what_the_wire_measures_is_said(recording: Path) -> None:
    before = frames(recording)
    done = keel("decode", recording / "out.keel", "--bus", "talk", "--as", "can", "--rate", "1000000")
    assert done.returncode == 0 and "you said 1,000,000; the bits measure 9,600" in done.stdout
    said = of(recording, "talk")
    assert said and all(one["faults"] or one["kind"] == "error" for one in said)
    assert keel("decode", recording / "out.keel", "--undo").returncode == 0
    assert frames(recording) == before
    # Without a code, that which the line was read in is meant.
    (line,) = again(recording, "--set", "parity=odd")["lines"]
    assert (line["code"], line["settings"]["parity"]) == ("uart", "odd") and line["faulty"] == line["frames"]
    assert keel("decode", recording / "out.keel", "--undo").returncode == 0
    for options in (["--bus", "nobody"], [], ["--bus", "talk", "-o", "x"], ["--bus", "talk", "--undo"]):
        done = keel("decode", recording / "out.keel", *options)
        assert done.returncode in (1, 2) and "Traceback" not in done.stderr, done.stderr


def test_a_channel_that_said_nothing_is_read_by_hand(tmp_path: Path) -> None:
    line = wave(uart(b"AB", 9600))
    (tmp_path / "p.vcd").write_bytes(vcd(few=line, dead=wave([(1, 1e8)])))
    keel("decode", tmp_path / "p.vcd", "-o", tmp_path / "out.keel", "--as", "can:few", "--rate", "500000")
    assert all(one["faults"] or one["kind"] == "error" for one in frames(tmp_path))
    done = keel("decode", tmp_path / "out.keel", "--bus", "few", "--as", "uart", "--rate", "9600")
    assert done.returncode == 0, done.stderr
    assert [one["payload"] for one in frames(tmp_path)] == ["4142"]


def test_frames_say_their_fields_and_what_was_on_the_wire(recording: Path) -> None:
    lines = keel("frames", recording / "out.keel", "--json", "--fields").stdout.splitlines()
    for one in map(json.loads, lines):
        assert one["fields"][0]["start"] == one["t"] and one["fields"][-1]["end"] == one["t_end"]
        if one["bus"] == "talk":
            assert one["raw"] == one["payload"]
            assert "".join(field["text"] for field in one["fields"]) == one["payload"]
        else:
            assert one["raw"] is None and one["fields"][0]["name"] == "sof"
    assert keel("frames", recording / "out.keel", "--fields").returncode == 2


def test_a_pair_of_wires_is_kept_as_a_formula_and_explained(tmp_path: Path) -> None:
    dominant = wave(CAN_LINE).inverted
    high, low = volts(dominant, 100, 2.5, 3.5, 60, 0.03), volts(dominant, 100, 2.5, 1.5, 60, 0.03, 2)
    rows = np.column_stack([np.arange(len(high)) * 1e-7, high, low])
    text = "time (s),CANH (V),CANL (V)\n" + "".join(f"{t:.7f},{a:.4f},{b:.4f}\n" for t, a, b in rows)
    (tmp_path / "p.csv").write_text(text)
    assert keel("decode", tmp_path / "p.csv", "-o", tmp_path / "out.keel").returncode == 0
    manifest = Recording(tmp_path / "out.keel").snapshot().manifest
    assert [(one.name, one.kind, one.formula) for one in manifest.waveforms] == [
        ("CANH", "analog", ""),
        ("CANL", "analog", ""),
        ("CANH − CANL", "made", "difference(CANH, CANL)"),
        ("CANH − CANL", "levels", ""),
    ]
    assert manifest.lines[0].channels == {"CANH": "high", "CANL": "low"}
    first = json.loads(keel("frames", tmp_path / "out.keel", "--json", "--fields").stdout.splitlines()[0])
    assert [field["text"] for field in first["fields"] if field["name"] == "id"] == ["1A0"]
    bus = manifest.buses[0].name
    options = ("--as", "can", "--channel", "CANH=line")
    done = keel("decode", tmp_path / "out.keel", "--bus", bus, *options)
    assert done.returncode == 0, done.stderr
    assert Recording(tmp_path / "out.keel").snapshot().manifest.lines[0].channels == {"CANH": "line"}


def test_made_channels_are_read_like_others(tmp_path: Path) -> None:
    line = wave(uart(TEXT * 6, 9600))
    rows = "".join(f"{v:.3f}\n" for v in volts(line, 10_000, 0.2, 3.0, 4000, 0.05))
    (tmp_path / "p.txt").write_text("Sample interval: 10 us\nX (V)\n" + rows)
    make = ("--make", "calm=lowpass(X, 8us)", "--make", "bits=threshold(calm, 1.5V)")
    done = keel("decode", tmp_path / "p.txt", "-o", tmp_path / "out.keel", "--as", "auto:bits", *make)
    assert done.returncode == 0, done.stderr
    assert {one["bus"] for one in frames(tmp_path)} == {"bits"} and len(frames(tmp_path)) == 6
    kinds = [(one.name, one.kind) for one in Recording(tmp_path / "out.keel").snapshot().manifest.waveforms]
    assert kinds == [("X", "analog"), ("calm", "made"), ("bits", "made"), ("bits", "levels")]
    assert keel("measure", tmp_path / "p.txt", "--make", "bits=nothing(X)").returncode == 1
