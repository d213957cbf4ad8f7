"""Asks on channels beside a line: which frames they find, and what is wrong with those that name nothing."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from keel.ask.completion import complete
from keel.ask.crossings import Crosses
from keel.ask.language import parse
from keel.ask.names import scene_of
from keel.ask.nodes import Scene
from keel.errors import AskError
from keel.lines.levels import crossed
from keel.model.waveform import Analog
from keel.probe.candidates import Wanted
from keel.probe.crossings import Crossings
from keel.store.recording import Recording, Snapshot
from tests.lines.wires import CanFrame, can, wave
from tests.making import find
from tests.probe.test_margins import recording

LEVELS, SPANS = can([CanFrame(0x100 + k % 2, bytes([k])) for k in range(40)], 250_000)
STEP = 1_000.0
SCENE = Scene(channels=("motor", "motor supply"))


def motor() -> Analog:
    """12 V, and 10 V from 3 to 5 ms and from 7 ms to the end; with noise that crosses nothing."""
    count = round(wave(LEVELS).end / STEP)
    at = np.arange(count) * STEP
    volts = np.where(((at >= 3e6) & (at < 5e6)) | (at >= 7e6), 10.0, 12.0)
    return Analog(0, STEP, (volts + np.random.default_rng(1).normal(0, 0.03, count)).astype(np.float32))


@pytest.fixture(scope="module")
def snapshot(tmp_path_factory: pytest.TempPathFactory) -> Snapshot:
    folder: Path = tmp_path_factory.mktemp("crossings") / "r.keel"
    recording(folder, Wanted("can", ("wire",)), wire=wave(LEVELS), motor=motor())
    return Recording(folder).snapshot()


def first_from(*moments: float) -> list[int]:
    starts = [span[0] for span in SPANS]
    return [int(np.searchsorted(starts, moment)) for moment in moments]


@pytest.mark.parametrize(
    ("ask", "moments"),
    [
        ("falls:motor<11V", (3e6, 7e6)),
        ("rises:motor>11V", (5e6,)),
        ("falls:motor<11000mV or rises:motor>11", (3e6, 5e6, 7e6)),
        ("falls:Motor<11V at:..6ms", (3e6,)),
        ("falls:motor<9V", ()),
        ("falls:wire<0.5V at:..0.5ms", (80_000,)),
    ],
)
def test_the_first_frame_after_a_crossing_is_found(snapshot: Snapshot, ask: str, moments: tuple[float, ...]) -> None:
    found = find(snapshot, ask)
    wanted = first_from(*moments)
    if "wire" in ask:
        # A channel of levels crosses its cut with each edge.
        assert found.numbers(0, 1).tolist() == wanted
    else:
        assert found.numbers(0, len(found)).tolist() == wanted


def test_what_was_asked_for_may_follow_something_else(snapshot: Snapshot) -> None:
    last = first_from(3e6)[0]
    found = find(snapshot, f'bytes:"{last - 3:02X}" then falls:motor<11V within 2ms')
    assert found.numbers(0, 9).tolist() == [last]
    assert len(find(snapshot, "not falls:motor<11V")) == snapshot.frames - 2


def test_crossings_are_found_in_noise_and_kept(snapshot: Snapshot) -> None:
    crossings = Crossings(snapshot)
    down, up = crossings.times("motor", 11.0, False), crossings.times("motor", 11.0, True)
    assert down.tolist() == pytest.approx([3e6, 7e6], abs=2 * STEP) and up.tolist() == pytest.approx(
        [5e6], abs=2 * STEP
    )
    assert Crossings(snapshot).times("motor", 11.0, False) is down
    assert len(crossings.times("nothing", 11.0, True)) == 0
    noisy = crossed(Analog(0, 1.0, np.random.default_rng(2).normal(5.0, 0.02, 100_000)), 5.0)
    assert len(noisy.edges) < 10


@pytest.mark.parametrize(
    "ask", ["falls:motor<11V", 'rises:"motor supply">-0.5V', "falls:motor<0.25V", "rises:motor>12.0625V or fault"]
)
def test_an_ask_is_read_as_it_was_written(ask: str) -> None:
    assert str(parse(ask, SCENE)) == ask and parse(str(parse(ask, SCENE)), SCENE) == parse(ask, SCENE)
    assert parse("falls:MOTOR<500mV", SCENE) == Crosses("motor", 0.5, False)


@pytest.mark.parametrize(
    ("ask", "what", "expected"),
    [
        ("falls:mator<11V", "no channel is called “mator”", "motor"),
        ("falls:motor>11V", "takes no “>”", "falls:motor<11V"),
        ("changes:motor<11V", "takes no “<”", "rises: with >"),
        ("falls:motor<", "the ask ends here", "a voltage"),
        ("falls:motor<hot", "is not understood", "a voltage"),
    ],
)
def test_what_makes_no_sense_is_explained(ask: str, what: str, expected: str) -> None:
    with pytest.raises(AskError) as caught:
        parse(ask, SCENE)
    assert what in caught.value.what and expected in " ".join(caught.value.expected)


def test_channels_are_offered_when_an_ask_is_typed(snapshot: Snapshot) -> None:
    assert "falls:motor" in complete("falls:", scene_of(snapshot))
    assert complete("falls:mo", SCENE) == ["falls:motor"]
