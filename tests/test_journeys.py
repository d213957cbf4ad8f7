"""Whole journeys, as a person makes them, in a real terminal."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from keel.bench.messages import full_dictionary
from keel.signals.loading import save_dictionary
from keel.store.library import shelf
from keel.store.manifest import load_manifest
from keel.store.recording import Recording
from tests.drive import KEEL, Start

pytestmark = [pytest.mark.journey, pytest.mark.xdist_group("terminal")]


def frames_in(screen: str) -> int:
    found = re.search(r"(\d{1,3}(?: \d{3})*) frames", screen.splitlines()[0])
    assert found, screen
    return int(found[1].replace(" ", ""))


def test_the_lens_is_dragged_with_the_mouse(start: Start) -> None:
    # What a person does by keys is gone through in the walk of the README.
    t = start(f"{KEEL} demo")
    first = t.until("● live", "HelmCommand", "AliveHelm", "frames", "10s")
    count = frames_in(first)
    while frames_in(t.screen()) <= count:
        time.sleep(0.1)
    t.drag((60, 1), (110, 1))
    t.until("in lens", "[", "]")
    t.keys("BSpace")
    t.until("in lens", gone=True)
    t.keys("q")
    t.until("EXIT 0")


def test_from_the_bench_to_a_named_field_and_back_another_day(start: Start, tmp_path: Path) -> None:
    t = start(f"{KEEL} demo")
    t.until("● live", "HelmCommand")
    # 7: the ramp is worked between marks.
    t.keys("9")
    t.until("bow ramp", "what she sends")
    time.sleep(3)
    for number, (way, back) in enumerate((("Right", "Left"), ("Left", "Right"), ("Right", "Left"))):
        t.keys("m")
        t.until(f"⚑{2 * number + 1}")
        t.keys(way)
        time.sleep(2.0)
        t.keys(back)
        time.sleep(0.5)
        t.keys("m")
        t.until(f"⚑{2 * number + 2}")
        time.sleep(3.0)
    t.keys("Down", "Right")
    t.until("faults")
    time.sleep(1)
    t.keys("Left")
    # 6: what is wrong on the line, and a jump to it.
    t.keys("3")
    t.until("load of each bus", "✕ CRC", "longest gap", "steady", "in bursts", "mean")
    t.keys("Tab", "f")
    t.until("ask  fault:crc", "✕ CRC", "· frame 1 of")
    t.keys("BSpace")
    t.until("load of each bus")
    # 8: what follows the marks? The ramp's angle and command, on top; keep one.
    t.keys("4")
    screen = t.until("6 marks as pairs (start, end) give 3 spans", "BowRampState", "BowRampPanel", "bit loom")
    rows = [line for line in screen.splitlines() if "uint" in line]
    assert {"BowRampPanel", "BowRampState"} == {
        name for name in ("BowRampPanel", "BowRampState") for r in rows[:2] if name in r
    }
    if "BowRampPanel" in rows[0]:
        t.keys("Down")
        t.until("candidate 2 BowRampState")
    t.keys("Enter")
    t.until("Name for BowRampState 12 bits from 7, big-endian")
    t.type("angle")
    t.keys("Enter")
    t.until("kept angle")
    # 9: drawings and rows are saved.
    t.keys("e")
    t.until("over the evidence", "as CSV")
    t.keys("Enter")
    t.until("exported ")
    t.keys("1")
    t.until("kept signals", "angle")
    t.keys("e")
    t.until("load of each bus over the lens")
    t.keys("Enter")
    t.until("esc leave", gone=True)
    t.until("-load.svg")
    saved = {path.suffix for path in tmp_path.iterdir()}
    assert ".svg" in saved
    t.keys("/")
    t.type("id:220")
    t.keys("Enter", "2", "e")
    t.until("frames shown, as CSV")
    t.keys("Enter")
    t.until("esc leave", gone=True)
    t.until("-frames.csv")
    t.keys("q")
    t.until("EXIT 0")
    assert any(len(p.read_text().splitlines()) > 100 for p in tmp_path.glob("*.csv"))
    # 10: another day, everything is there.
    (only,) = shelf()
    assert only.marks == 6 and not only.live
    again = start(f"{KEEL} open")
    again.until("recordings", only.name, "bench: the harbour ferry Tern")
    again.keys("Enter")
    again.until("○ ended", "⚑1", "⚑6", "kept signals", "angle")
    again.keys("2")
    again.until("anatomy frame 1")
    again.keys("q")
    again.until("EXIT 0")
    folder = only.folder
    assert Recording(folder).snapshot().frames == only.frames
    assert "angle" in str(load_manifest(folder).dictionary)


def test_a_dead_button_is_not_found(start: Start) -> None:
    t = start(f"{KEEL} demo --seed 4")
    t.until("● live", "HelmCommand")
    t.keys("9")
    t.until("ramp panel dead")
    t.keys(*["Down"] * 9, "Right", *["Up"] * 9)
    t.until("✕ panel")
    time.sleep(3)
    for way, back in (("Right", "Left"), ("Left", "Right"), ("Right", "Left")):
        t.keys("m")
        time.sleep(0.4)
        t.keys(way)
        time.sleep(1.5)
        t.keys(back, "m")
        time.sleep(2.5)
    t.keys("4")
    # Three presses within half a minute prove little; nothing that comes near is called the button.
    t.until("3 spans", "searched ", " identifiers")
    verdict = t.screen()
    assert "undecided" in verdict or "Nothing follows the marks." in verdict or "Too little to tell" in verdict
    t.keys("q")
    t.until("EXIT 0")


def test_a_killed_app_and_a_killed_recorder_leave_a_recording_that_opens(start: Start, tmp_path: Path) -> None:
    t = start(f"{KEEL} demo")
    t.until("● live", "HelmCommand")
    t.keys("m")
    t.until("⚑1")
    (live,) = shelf()
    assert live.live
    os.kill(int(json.loads((live.folder / "status.json").read_text())["process"]), signal.SIGKILL)
    t.until("○ ended without closing")
    seen = frames_in(t.screen())
    t.kill()
    t.close()
    again = start(f"{KEEL} open {live.name}", columns=100, rows=30)
    screen = again.until("○ ended, not closed", "HelmCommand", "⚑1")
    assert frames_in(screen) >= seen
    again.keys("q")
    again.until("EXIT 0")


def test_the_recorder_stops_when_its_app_is_killed(start: Start) -> None:
    t = start(f"{KEEL} demo")
    t.until("● live")
    (live,) = shelf()
    t.kill()
    end = time.monotonic() + 30
    while shelf()[0].live:
        assert time.monotonic() < end, "the recorder went on"
        time.sleep(0.2)
    assert Recording(live.folder).snapshot().frames > 0


def test_two_apps_follow_one_recording(start: Start, tmp_path: Path) -> None:
    recorder = subprocess.Popen(
        [sys.executable, "-m", "keel", "record", "--from", "bench", str(tmp_path / "shared.keel")],
        stderr=subprocess.DEVNULL,
    )
    try:
        while not (tmp_path / "shared.keel" / "recording.json").exists():
            time.sleep(0.1)
        one = start(f"{KEEL} open {tmp_path / 'shared.keel'}")
        two = start(f"{KEEL} open {tmp_path / 'shared.keel'}", columns=100, rows=30)
        for t in (one, two):
            t.until("● live", "HelmCommand")
        one.keys("m")
        two.until("⚑1")
        two.keys("9")
        two.until("bow ramp")
        two.keys("Right")
        one.keys("9")
        one.until("╲ down")
        # Leaving an app that did not start the recorder leaves the recorder alone.
        one.keys("q")
        one.until("EXIT 0")
        assert recorder.poll() is None
    finally:
        recorder.terminate()
        recorder.wait()


def test_a_capture_is_opened_by_its_name(start: Start, tmp_path: Path) -> None:
    lines = [f"({1700000000 + i / 100:.6f}) can{i % 2} {0x100 + i % 3:03X}#{i:04X}\n" for i in range(500)]
    (tmp_path / "morning.log").write_text("".join(lines) + "junk\n")
    t = start(f"{KEEL} open morning.log", columns=100, rows=30)
    t.until("○ ended", "500 frames", "can0", "can1", "102")
    t.keys("q")
    t.until("EXIT 0")
    assert [s.frames for s in shelf()] == [500]


def test_from_a_dictionary_to_values_and_what_is_different(start: Start, tmp_path: Path) -> None:
    for name, work in (("morning", "ramp=down"), ("noon", "lights=on")):
        how = ["--seconds", "12", "--lines", "can", "--out", f"{name}.keel", "--at", f"3s:{work}"]
        subprocess.run([sys.executable, "-m", "keel", "bench", *how], check=True, capture_output=True)
    save_dictionary(full_dictionary(), tmp_path / "tern.dbc")
    t = start(f"{KEEL} open morning.keel")
    t.until("○ ended", "HelmCommand")
    # What the builders did not publish is not known; their whole dictionary knows it.
    t.keys("5")
    t.until("what do the devices say?", "lever")
    t.keys("D")
    t.until("always first: the recording's own", "tern.dbc  found beside the recording")
    t.keys("Enter")
    t.until("tern.dbc: 35 messages", "engaged")
    t.keys("/")
    t.type("becomes:BowRampState.lock=free")
    t.until("enter searches")
    t.keys("Enter", "2")
    t.until("1 frame", "BowRampState", "= “free”", "bits 7–0, 15–12 big")
    t.keys("BSpace", "BSpace", "5", "/")
    t.until("esc leave as it was")
    t.type("id:220")
    t.until("enter searches")
    t.keys("Enter")
    t.until("BowRampState.angle", "engaged")
    t.keys("Enter", "Down", "Enter", "c", "c")
    t.until("2 − 1", "BowRampState.lock", "free ┤")
    # A reading of the display, and by how much the value differs from it.
    t.keys("x")
    t.until("should be at")
    t.type("1")
    t.keys("Enter")
    t.until("expected 1 at")
    t.keys("BSpace")
    t.until("expected 1 at", gone=True)
    # The other recording, from its path; then over to its side.
    t.keys("/")
    t.until("esc leave as it was")
    t.keys("C-u", "Enter")
    t.until("everything")
    t.keys("6")
    t.until("what is different?")
    t.keys("w")
    t.until("another: type its path")
    t.keys("Down", "Enter")
    t.until("The path of the recording")
    t.type("noon.keel")
    t.keys("Enter")
    t.until("lights is “on” only in the other", "stopped moving")
    t.keys("e")
    t.until("as a report with drawings")
    t.keys("Escape")
    t.until("as a report with drawings", gone=True)
    t.keys("q")
    t.until("EXIT 0")
    assert [d.name for d in load_manifest(tmp_path / "morning.keel").dictionaries] == ["tern"]
