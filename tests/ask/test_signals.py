"""Asks about signals: comparisons, texts, what is no value, and changes across segments and pages."""

from __future__ import annotations

import numpy as np
import pytest

from keel.ask.language import parse
from keel.ask.matches import Matcher
from keel.ask.nodes import Scene
from keel.errors import AskError
from keel.model.fields import BitField
from keel.model.frames import batch_of
from keel.model.identity import Form
from keel.signals.book import Book
from keel.signals.dictionary import Dictionary, Message, Signal
from keel.store.recording import Snapshot
from tests.making import recorded

PAGE = Signal("page", BitField(8, 4), role="selector")
SPEED = Signal("speed", BitField(0, 8), 0.5, -10, absent=((255, 255),), wrong=((254, 254),))
GEAR = Signal("gear", BitField(12, 2), texts={0: "park", 1: "drive", 2: "drive fast"})
DEEP = Signal("deep", BitField(16, 8), pages=((1, 1),))
DRIVE = Message("a", Form.BASE, 0x100, "Drive", (SPEED, PAGE, GEAR, DEEP))
OTHER = Message("a", Form.BASE, 0x200, "Other", (SPEED,))
SCENE = Scene(("a",), Book([Dictionary((DRIVE, OTHER))], ["a"]))
ROWS = [  # speed, page, gear, deep
    (20, 0, 0, 9), (22, 1, 0, 5), (255, 0, 1, 5), (254, 1, 1, 5),
    (30, 0, 1, 5), (28, 1, 2, 6), (28, 0, 0, 7), (40, 1, 0, 6),
]  # fmt: skip


@pytest.fixture(scope="module")
def snapshot(tmp_path_factory: pytest.TempPathFactory) -> Snapshot:
    """Eight frames over several segments, one of another identifier after each."""
    payloads = [bytes([speed, page | gear << 4, deep]) for speed, page, gear, deep in ROWS]
    batches = []
    for low in (0, 3, 6):
        times = [t for i in range(low, min(low + 3, 8)) for t in (i * 1000, i * 1000 + 1)]
        idents = [0x100, 0x200] * (len(times) // 2)
        data = [p for i in range(low, min(low + 3, 8)) for p in (payloads[i], bytes([i]))]
        batches.append(batch_of(np.array(times), np.array(idents), data))
    return recorded(tmp_path_factory.mktemp("r") / "r.keel", *batches)


@pytest.mark.parametrize(
    "ask, rows",
    [
        ("Drive.speed>=1", [1, 4, 5, 6, 7]),
        ("Drive.speed=1", [1]),
        ("drive.SPEED!=1", [0, 4, 5, 6, 7]),
        ('Drive.speed="not available"', [2]),
        ("Drive.speed=error", [3]),
        ("Drive.gear=drive", [2, 3, 4]),
        ("Drive.gear=drive*", [2, 3, 4, 5]),
        ("Drive.gear!=park", [2, 3, 4, 5]),
        ("Drive.gear=1", [2, 3, 4]),
        ("Drive.deep=5", [1, 3]),
        ("D*.d??p>=6", [5, 7]),
        # Against the frame before that carries it; where there is no value there is no rise.
        ("rises:Drive.speed", [1, 7]),
        ("falls:Drive.speed", [5]),
        ("changes:Drive.speed", [1, 2, 3, 4, 5, 7]),
        ("changes:Drive.deep", [5]),
        ("becomes:Drive.gear=drive", [2]),
        ("becomes:Drive.gear!=park", [2]),
        ('becomes:Drive.speed="not available"', [2]),
        ("id:100 not Drive.speed>=1", [0, 2, 3]),
    ],
)
def test_what_matches(snapshot: Snapshot, ask: str, rows: list[int]) -> None:
    found = Matcher(parse(ask, SCENE), SCENE).run(snapshot)
    assert [n // 2 for n in found.numbers(0, len(found)).tolist()] == rows


def test_a_pattern_may_mean_signals_of_several_messages(snapshot: Snapshot) -> None:
    found = Matcher(parse("*.speed=-10", SCENE), SCENE).run(snapshot)
    assert found.numbers(0, 9).tolist() == [1]


@pytest.mark.parametrize(
    "ask, position, what, expected",
    [
        ("Drive.sped>3", 0, "no signal is called “Drive.sped”", "Drive.speed"),
        ("id:100 rises:Nobody.x", 13, "no signal is called", ""),
        ("Drive.gear=neutral", 0, "“Drive.gear” has no value “neutral”", "drive"),
        ("Drive.gear>park", 0, "“park” is no number", "a number"),
        ("Drive.speed>", 12, "the ask ends here", "a value"),
        ("becomes:Drive.gear", 18, "the ask ends here", "="),
    ],
)
def test_wrong_asks_about_signals_say_what_there_is(ask: str, position: int, what: str, expected: str) -> None:
    with pytest.raises(AskError) as caught:
        parse(ask, SCENE)
    assert caught.value.position == position and what in caught.value.what
    assert expected in " ".join(caught.value.expected)
