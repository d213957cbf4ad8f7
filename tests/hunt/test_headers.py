"""Fields of headers are hunted as those of payloads are: signal strength that follows what a person saw."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pytest

from keel.hunt.candidates import Candidate
from keel.hunt.columns import WIDEST, gather
from keel.hunt.evidence import Evidence
from keel.hunt.exact import Known
from keel.hunt.measurements import Points
from keel.hunt.traffic import Traffic
from keel.media.every import key_words
from keel.model.span import Span
from tests.captured import imported
from tests.captures import LOCK, SECOND, START, TAG, Packet, ad, address, link_layer, pcap, pdu, with_radio
from tests.command import keel
from tests.making import Row, batch, find, recorded

LENGTH_S = 120


def strength(time_s: float) -> int:
    """How strongly the tag is received: a crew member walks up to the antenna and away, unevenly."""
    return round(-70 + 18 * math.sin(time_s / 7) + 9 * math.sin(time_s / 2.3 + 1))


def near(time_s: float) -> bool:
    """When the gangway lock was held to the antenna."""
    return time_s % 20 > 14


@pytest.fixture(scope="module")
def air(tmp_path_factory: pytest.TempPathFactory) -> Traffic:
    chance = np.random.default_rng(3)
    packets = []
    for n in range(LENGTH_S * 5):
        time_s = n / 5
        tag = pdu(2, address(TAG) + ad(1, b"\x04") + ad(0x16, bytes([15, 24, 90 - n // 170])))
        rssi = strength(time_s) + int(chance.integers(-1, 2))
        packets.append(Packet(START + n * SECOND // 5, with_radio(link_layer(tag), 37, rssi)))
        lock = pdu(0, address(LOCK) + ad(0xFF, bytes([1, 2, n % 256])), tx_random=True)
        rssi = -101 if n == 250 else (-40 if near(time_s) else -75) + int(chance.integers(-5, 6))
        packets.append(Packet(START + n * SECOND // 5 + 50_000_000, with_radio(link_layer(lock), 38, rssi)))
    snapshot = imported(tmp_path_factory.mktemp("air"), pcap(256, packets))
    return Traffic.of(gather(find(snapshot)))


def of(candidate: Candidate) -> tuple[str, str]:
    return key_words(candidate.key), candidate.header


def test_readings_are_followed_by_signal_strength(air: Traffic) -> None:
    moments = np.arange(5, LENGTH_S, 9.0)
    # A meter that shows half of the attenuation, and begins at 20.
    values = np.array([round(20 - strength(t) / 2, 1) for t in moments])
    found = Evidence(readings=Points(START + (moments * 1e9).astype(np.int64), values)).follow(air)
    best = found.candidates[0]
    assert found.verdict == "found" and of(best) == (TAG, "rssi")
    assert (best.scale, best.offset) == (-0.5, 20.0)
    times, raw = air.values(best.key, best.field, best.page, best.header)
    assert len(times) == LENGTH_S * 5 and raw.max() <= -40


def test_marks_are_followed_by_signal_strength(air: Traffic) -> None:
    spans = tuple(Span(START + (t + 14) * SECOND, START + (t + 20) * SECOND) for t in range(0, LENGTH_S, 20))
    found = Evidence(spans=spans).follow(air)
    assert found.verdict == "found" and of(found.candidates[0]) == (LOCK, "rssi")


def test_a_number_that_only_headers_hold_is_found_there(air: Traffic) -> None:
    found = Evidence(known=Known("-101", START + 50 * SECOND)).follow(air)
    assert (LOCK, "rssi") in map(of, found.candidates)


def test_what_of_headers_moves_is_listed(air: Traffic) -> None:
    listed = {key_words(key): set(named) for key, named in air.headers.items()}
    assert listed == {TAG: {"rssi"}, LOCK: {"rssi"}}


def test_the_command_names_the_field(air: Traffic, tmp_path: Path) -> None:
    packets = [
        Packet(START + n * SECOND, with_radio(link_layer(pdu(2, address(TAG) + ad(1, b"\x04"))), 37, strength(n)))
        for n in range(LENGTH_S)
    ]
    imported(tmp_path, pcap(256, packets), "walk.pcap")
    lines = (f"{n},{20 - strength(n) / 2}\n" for n in range(4, LENGTH_S, 8))
    (tmp_path / "seen.csv").write_text("".join(lines))
    given = tmp_path / "walk.pcap.keel", "--readings", tmp_path / "seen.csv"
    best = json.loads(keel("hunt", *given, "--json").stdout)["candidates"][0]
    assert (best["id"], best["header"], best["length"], best["signed"]) == (TAG, "rssi", 8, True)
    assert " rssi " in keel("hunt", *given).stdout
    fields = json.loads(keel("hunt", given[0], "--structure", "--json").stdout)["identifiers"][0]["fields"]
    assert [f["header"] for f in fields if f["header"]] == ["rssi"]


def test_of_long_payloads_the_first_bytes_are_looked_at_and_that_is_said(tmp_path: Path) -> None:
    rows = [Row(START + n * SECOND, 0x123, bytes([n]) + bytes(999)) for n in range(20)]
    traffic = Traffic.of(gather(find(recorded(tmp_path / "long.keel", batch(rows)))))
    (column,) = traffic.columns.values()
    assert column.payloads.shape == (20, WIDEST) and column.length == 1000
    assert any(f"first {WIDEST} bytes" in note for note in traffic.notes)
