"""The journey with an adapter in hand: choose it, try it out, record, unplug, replug, see the hole, stop, reopen."""

from __future__ import annotations

import re
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager

import pytest

from keel.store.library import shelf
from keel.store.manifest import load_manifest
from keel.store.recording import Recording
from tests.drive import KEEL, PATIENCE_S, Start

pytestmark = [pytest.mark.journey, pytest.mark.xdist_group("terminal")]


@contextmanager
def plugged_in() -> Iterator[None]:
    """An adapter that stands in, as anybody starts one; pulled out at the end."""
    command = [sys.executable, "-m", "keel", "bench", "--adapter"]
    stand_in = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    assert stand_in.stderr is not None
    assert "a CAN adapter stands in at" in stand_in.stderr.readline()
    try:
        yield
    finally:
        stand_in.send_signal(signal.SIGTERM)
        stand_in.wait(PATIENCE_S)
        stand_in.stderr.close()


def frames_in(screen: str) -> int:
    found = re.search(r"(\d{1,3}(?: \d{3})*) frames", screen.splitlines()[0])
    assert found, screen
    return int(found[1].replace(" ", ""))


def test_an_adapter_is_chosen_tried_recorded_unplugged_and_plugged_in_again(start: Start) -> None:
    t = start(f"{KEEL} open")
    with plugged_in():
        t.until("There is no recording yet")
        t.keys("r")
        screen = t.until("record from", "a stand-in")
        rows = [line for line in screen.splitlines()[3:] if re.search(r"bench|can:|adapter:|serial:", line)]
        t.keys(*["Down"] * next(i for i, row in enumerate(rows) if "adapter:" in row), "t")
        t.until("listening")
        t.until("good, 12 identifiers", "% load at 250 kbit/s", "rate=250000")
        t.keys("Enter")
        t.until("● live", "0CFF2A17")
        while frames_in(t.screen()) < 100:
            time.sleep(0.1)
    t.until("✕ source gone")
    t.keys("3")
    t.until("unplugged", "recording")
    before = frames_in(t.screen())
    with plugged_in():
        t.until("✕ 1 hole", "1 hole,", "it was unplugged", "╳")
        while frames_in(t.screen()) <= before:
            time.sleep(0.1)
        t.keys("q")
        t.until("EXIT 0")
    (one,) = shelf()
    manifest, frames = load_manifest(one.folder), Recording(one.folder).snapshot().frames
    assert len(manifest.holes) == 1 and manifest.holes[0].why == "it was unplugged"
    assert any("nothing came for" in note and "unplugged" in note for note in manifest.notes)
    assert frames > before and manifest.lost == 0
    again = start(f"{KEEL} open {one.name}")
    again.until("○ ended", "╳", "0CFF2A17")
    again.keys("3")
    again.until("1 hole,", "it was unplugged", "0 lost")
    again.keys("q")
