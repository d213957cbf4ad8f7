"""Two lines side by side: which frames are the same, by how much they are later, what was lost."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.model.frames import FrameBatch, batch_of
from keel.model.waveform import Analog, Logic
from keel.probe.beside import matched
from tests.command import keel
from tests.lines.waves import volts
from tests.lines.wires import CanFrame, can, wave
from tests.probe.test_margins import recording

FRAMES = [CanFrame(0x100 + k % 7, bytes([k % 5, 3])) for k in range(60)]
LEVELS, SPANS = can(FRAMES, 250_000)
LOST = (10, 11, 40)


def before_and_after(tmp_path: Path) -> Path:
    line = wave(LEVELS)
    keep = np.ones(len(line.edges), np.bool_)
    for one in LOST:
        keep &= ~((line.edges >= SPANS[one][0]) & (line.edges <= SPANS[one][1]))
    after = Logic(line.start, line.end, line.first, line.edges[keep] + 700)
    fine = volts(line, 100.0, 0.0, 5.0, 20.0, 0.02).astype(np.float32)
    poor = volts(after, 100.0, 0.0, 3.3, 350.0, 0.08, 2).astype(np.float32)
    return recording(tmp_path / "r.keel", before=Analog(0, 100.0, fine), after=Analog(0, 100.0, poor))


def test_what_was_lost_how_late_it_is_and_what_became_worse(tmp_path: Path) -> None:
    folder = before_and_after(tmp_path)
    found = json.loads(keel("margins", folder, "--ask", "bus:before", "--beside", "after", "--json").stdout)
    assert (found["same"], found["only_first"], found["only_second"], found["faulty"]) == (57, 3, 0, [0, 0])
    # A capacitor makes edges later, too.
    assert 700 <= found["delay"]["min"] <= found["delay"]["mean"] <= found["delay"]["max"] < 1_050
    assert found["first_lost"] == pytest.approx(SPANS[LOST[0]][0], abs=60) and found["offset"] == 0
    changes = [row["change"] for row in found["margins"] if row["change"] is not None]
    assert changes == sorted(changes) and changes[0] < -0.1
    rows = {row["what"]: row for row in found["margins"]}
    assert rows["rise time"]["first"]["mean"] < 200 < 700 < rows["rise time"]["second"]["mean"]
    said = keel("margins", folder, "--ask", "bus:before", "--beside", "after").stdout
    assert "57 frames on both, 3 lost, 0 only on the second" in said and "ns later" in said
    assert "what,unit,margin_before,margin_after" in keel(
        "margins", folder, "--ask", "bus:before", "--beside", "after", "--csv"
    ).stdout  # fmt: skip
    # Of a part of the first only that part of the second is compared.
    part = json.loads(keel("margins", folder, "--ask", "bus:before at:..5ms", "--beside", "after", "--json").stdout)
    assert part["same"] == sum(span[0] <= 5_000_000 for n, span in enumerate(SPANS) if n not in LOST)
    assert part["only_second"] == 0


def test_recordings_on_clocks_of_their_own_are_laid_over_each_other(tmp_path: Path) -> None:
    line = wave(LEVELS)
    late = Logic(line.start, line.end + 9_000_000, line.first, line.edges + 9_000_000)
    one, two = recording(tmp_path / "a.keel", x=line), recording(tmp_path / "b.keel", y=late)
    found = json.loads(keel("margins", one, "--beside", f"{two}:y", "--json").stdout)
    assert (found["same"], found["offset"]) == (60, 9_000_000) and abs(found["delay"]["mean"]) < 1
    assert "on clocks of their own" in keel("margins", one, "--beside", f"{two}:y").stdout


def test_which_line_is_meant_has_to_be_said(tmp_path: Path) -> None:
    folder = before_and_after(tmp_path)
    both = keel("margins", folder, "--beside", "after")
    assert both.returncode != 0 and "frames of 2 lines meet the ask" in both.stderr and "bus:NAME" in both.stderr
    none = keel("margins", folder, "--ask", "bus:before", "--beside", "behind")
    assert none.returncode != 0 and "no line is called behind" in none.stderr


def batch(times: list[int], says: list[int]) -> FrameBatch:
    return batch_of(np.array(times, np.int64), 5, [bytes([one]) for one in says])


@given(
    st.lists(st.tuples(st.integers(1, 100_000), st.integers(0, 3)), min_size=1, max_size=40),
    st.sets(st.integers(0, 39)), st.integers(-40, 40),
)  # fmt: skip
def test_what_is_left_of_the_same_frames_is_matched(steps: list[tuple[int, int]], lost: set[int], late: int) -> None:
    times = np.cumsum([step * 1_000 for step, _ in steps]).tolist()
    says = [one for _, one in steps]
    kept = [k for k in range(len(steps)) if k not in lost]
    a, b = batch(times, says), batch([times[k] + late for k in kept], [says[k] for k in kept])
    mine, theirs = matched(a, b, within=100)
    assert mine.tolist() == kept and theirs.tolist() == list(range(len(kept)))


def test_one_frame_is_the_same_as_one_other_alone() -> None:
    mine, theirs = matched(batch([100, 150], [7, 7]), batch([140], [7]))
    assert (mine.tolist(), theirs.tolist()) == ([1], [0])
    assert [len(one) for one in matched(batch([100], [7]), batch([100], [8]))] == [0, 0]
