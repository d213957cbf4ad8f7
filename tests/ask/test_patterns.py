"""Looking into payloads: the compiled way, the plain way, and the obvious way agree."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keel.ask import scanning
from keel.ask.completion import complete
from keel.ask.nodes import Scene
from keel.ask.patterns import Pattern, find_pattern, moved_rows
from keel.model.frames import batch_of
from keel.model.identity import Form, pack_key
from keel.signals.book import Book
from keel.signals.dictionary import Dictionary, Message

few = st.binary(max_size=20).map(lambda p: bytes(b & 0x61 for b in p))
patterns = st.lists(st.one_of(st.none(), st.sampled_from([0x00, 0x01, 0x40, 0x41, 0x60, 0x61])), min_size=1, max_size=4)


def holds(payload: bytes, pattern: Pattern, at: int | None, fold: bool) -> bool:
    if fold:
        payload = payload.lower()
        pattern = tuple(None if b is None else bytes([b]).lower()[0] for b in pattern)
    places = range(len(payload) - len(pattern) + 1) if at is None else [at]
    return any(
        place + len(pattern) <= len(payload)
        and all(b is None or payload[place + k] == b for k, b in enumerate(pattern))
        for place in places
    )


@given(st.lists(few, min_size=1, max_size=30), patterns, st.one_of(st.none(), st.integers(0, 6)), st.booleans())
def test_both_ways_find_what_is_there(
    payloads: list[bytes], some: list[int | None], at: int | None, fold: bool
) -> None:
    pattern = tuple(some)
    batch = batch_of(0, 0, payloads)
    expected = [holds(payload, pattern, at, fold) for payload in payloads]
    assert scanning.find_pattern(batch.data, batch.offsets, pattern, at, fold).tolist() == expected
    assert find_pattern.plain(batch.data, batch.offsets, pattern, at, fold).tolist() == expected


@given(st.lists(few, min_size=2, max_size=30), st.one_of(st.none(), st.integers(0, 6)))
def test_what_moved_from_one_payload_to_the_next(payloads: list[bytes], byte: int | None) -> None:
    part = slice(None) if byte is None else slice(byte, byte + 1)
    expected = [a[part] != b[part] for a, b in zip(payloads[:-1], payloads[1:], strict=True)]
    assert moved_rows(batch_of(0, 0, payloads), np.arange(len(payloads)), byte).tolist() == expected


BOOK = Book(
    [
        Dictionary(
            tuple(Message("a", Form.BASE, n, name) for n, name in ((1, "PackOne"), (2, "PackTwo"), (3, "BowRamp")))
        )
    ]
)
SCENE = Scene(("a", "hotel"), BOOK)
KEYS = (pack_key(0, 0, 0x1A0), pack_key(0, 0, 0x1A8), pack_key(1, 1, 0x18FECA17))


def test_completions_fit_what_is_typed() -> None:
    assert complete("fau", None) == ["fault", "fault:"]
    assert complete("bus:a or fault:c", None) == [
        "bus:a or fault:crc",
        "bus:a or fault:controller",
        "bus:a or fault:checksum",
        "bus:a or fault:calibration",
    ]
    assert complete("(bus:h", SCENE) == ["(bus:hotel"]
    assert complete("name:pack", SCENE) == ["name:PackOne", "name:PackTwo"]
    assert complete("name:ramp", SCENE) == ["name:BowRamp"]
    assert complete("id:1A0,1a", SCENE, KEYS) == ["id:1A0,1A0", "id:1A0,1A8"]
    assert complete("gap>12", SCENE, KEYS) == [] and complete("", SCENE, KEYS) == []
