"""What is measured of channels without reading them: bits, a sensor's ticks, clocks that change."""

from __future__ import annotations

import json
from pathlib import Path

from tests.command import keel
from tests.lines.chips import card, command, i2c, response
from tests.lines.waves import vcd
from tests.lines.wires import uart, wave


def measured(tmp_path: Path, data: bytes) -> dict[str, dict[str, object]]:
    file = tmp_path / "p.vcd"
    file.write_bytes(data)
    rows = json.loads(keel("measure", file, "--json").stdout)["channels"]
    return {row["channel"]: row for row in rows}


def test_a_clock_has_its_frequency_and_the_wires_that_go_by_it_say_so(tmp_path: Path) -> None:
    lines = i2c([[(0xA0, 0), (0x12, 0)]] * 20)
    found = measured(tmp_path, vcd(a=lines["scl"], b=lines["sda"], tx=wave(uart(b"hello there\n" * 20, 9_600))))
    assert (found["a"]["rate"], found["a"]["bit_time_ns"]) == (400_000.0, 2_500.0)
    assert found["a"]["said"] == ["the clock of I2C"]
    assert found["b"]["rate"] is None and found["b"]["said"] == ["goes by the clock a: I2C"]
    assert found["tx"]["nearest_rate"] == 9_600


def test_a_clock_that_changes_says_between_what(tmp_path: Path) -> None:
    slow = [(make(17, k), 400e3) for k in range(8) for make in (command, response)]
    fast = [(make(18, k), 25e6) for k in range(8) for make in (command, response)]
    found = measured(tmp_path, vcd(**card([*slow, *fast])))
    assert "the clock changes: 400 kHz, 25 MHz" in found["clk"]["said"]  # type: ignore[operator]


def test_a_sensor_has_ticks(tmp_path: Path) -> None:
    keel("bench", "--probe", "rudder", "--seconds", "0.3", "--out", tmp_path / "r.vcd")
    (row,) = json.loads(keel("measure", tmp_path / "r.vcd", "--json").stdout)["channels"]
    # Its clock is 1.2 % slow.
    assert row["nearest_rate"] == 333_333 and abs(row["deviation"] + 0.0119) < 0.001
