"""Messages by time and voltage, against what was sent."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import numpy as np
import pytest

from keel.model.waveform import Analog
from keel.probe.candidates import Wanted
from keel.store.recording import Recording
from tests.command import keel
from tests.lines.chips import spi
from tests.lines.test_spi import talk
from tests.lines.waves import volts
from tests.lines.wires import CanFrame, can, wave
from tests.probe.test_margins import recording

LEVELS, SPANS = can([CanFrame(0x100 + k % 2, b"\x01\x02") for k in range(12)], 250_000)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    line = wave(LEVELS)
    samples = volts(line, 200.0, 0.1, 3.0, 30.0, 0.01)
    supply = 5.0 - np.arange(len(samples)) / len(samples)
    return recording(
        tmp_path / "r.keel", Wanted("can", ("wire",)),
        wire=Analog(0, 200.0, samples.astype(np.float32)), supply=Analog(0, 200.0, supply.astype(np.float32)),
    )  # fmt: skip


def test_each_message_has_begin_end_silence_levels_and_the_volts_of_what_is_beside(folder: Path) -> None:
    rows = list(csv.DictReader(keel("spans", folder, "--each", "--csv").stdout.splitlines()))
    assert len(rows) == 12 and rows[0]["gap"] == ""
    for row, (start, end), before in zip(rows[1:], SPANS[1:], SPANS, strict=False):
        assert int(row["start"]) == pytest.approx(start, abs=250) and int(row["end"]) == pytest.approx(end, abs=2_000)
        assert float(row["gap"]) == pytest.approx(start - before[1], abs=2_500)
        assert float(row["low"]) == pytest.approx(0.1, abs=0.03)
        assert float(row["high"]) == pytest.approx(3.0, abs=0.03)
        whole = wave(LEVELS).end
        assert float(row["supply_at_start"]) == pytest.approx(5.0 - start / whole, abs=0.01)
    first = json.loads(keel("spans", folder, "--each", "--json").stdout.splitlines()[0])
    assert first["number"] == 1 and first["gap"] is None
    assert "length ms" in keel("spans", folder, "--each").stdout


def test_identifiers_have_least_mean_and_most(folder: Path) -> None:
    one, two = json.loads(keel("spans", folder, "--json").stdout)
    assert (one["id"], one["count"], two["id"], two["count"]) == ("100", 6, "101", 6)
    assert one["length_min"] <= one["length_mean"] <= one["length_max"]
    assert one["start"] == pytest.approx(SPANS[0][0], abs=250) and two["end"] == pytest.approx(SPANS[-1][1], abs=2_000)
    assert "low V" in keel("spans", folder).stdout
    assert keel("spans", folder, "--csv", "--ask", "id:100").stdout.count("\n") == 2
    assert keel("spans", folder, "--csv", "--json").returncode != 0


def test_both_ways_of_a_transfer_have_the_same_silence_before_them(tmp_path: Path) -> None:
    folder = recording(tmp_path / "s.keel", Wanted(), **spi(talk()))
    rows = [json.loads(line) for line in keel("spans", folder, "--each", "--json").stdout.splitlines()]
    assert [row["dir"] for row in rows[:4]] == ["tx", "rx", "tx", "rx"]
    assert all(a["gap"] == b["gap"] for a, b in zip(rows[2::2], rows[3::2], strict=True))
    assert rows[2]["gap"] == 4_000 and rows[0]["low"] is None
    assert Recording(folder).snapshot().frames == len(rows)
