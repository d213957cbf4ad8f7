"""What can be probed aboard: the lines, and what is on their wires."""

from __future__ import annotations

import numpy as np

from keel.bench.aux_line import aux_line
from keel.bench.chips import (
    FAST_HZ,
    NOBODY,
    SLOW_HZ,
    TEMPERATURE,
    card_lines,
    card_opening,
    card_write,
    i2c_lines,
    spi_lines,
)
from keel.bench.instrument import Probe, Sailed, Wire
from keel.bench.lone_lines import lone_line, remote_line
from keel.bench.panel_line import motor_volts, panel_line
from keel.bench.sensor import sensor_line
from keel.bench.wires import can_line, serial_line
from keel.media.serial import HOST
from keel.model.frames import Times
from keel.model.waveform import Logic
from keel.probe.candidates import Wanted

OFF = 1.001
"""The clock aboard is a little fast, as clocks are."""
ASKED_EVERY_S = 0.002
SHORE_IDENT = 0x1C3
"""Of the message by which the shore link's partner asks for it."""


def _bus_a(sailed: Sailed) -> list[Wire]:
    mine = sailed.batch.take(np.flatnonzero(sailed.batch.bus == 0))
    line = can_line(mine, 500_000 * OFF, 2_000_000 * OFF, sailed.start, sailed.end, sailed.seed)
    return [Wire("CANH", line, 3.5, 2.5, True), Wire("CANL", line, 1.5, 2.5)]


def _depth(sailed: Sailed) -> list[Wire]:
    batch = sailed.batch
    rows = np.flatnonzero(batch.bus == 4)
    is_host = batch.form[rows] == HOST.number
    lines = []
    for which in (True, False):
        said = [(int(batch.time[row]), batch.payload(row)) for row in rows[is_host == which].tolist()]
        lines.append(serial_line(said, 4_800 * OFF, sailed.start, sailed.end, sailed.seed + which))
    # The volts of RS-232 are the other way round.
    return [Wire("host", lines[0], 9.0, -9.0), Wire("device", lines[1], 8.5, -8.5)]


def _rudder(sailed: Sailed, asked: Times | None = None) -> list[Wire]:
    times, payloads = sailed.readings(0, "SteeringAngle")
    # Hundredths of a degree on the bus; the sensor has 12 bits: a twentieth each, the middle ahead.
    angles = [int.from_bytes(one[:2], "big", signed=True) // 5 + 2_048 for one in payloads]
    times = times if len(times) else np.array([sailed.start], np.int64)
    values = np.clip(np.array(angles or [2_048], np.int64), 0, 4_095)
    return [Wire("rudder", sensor_line(times, values, sailed.start, sailed.end, sailed.seed, asked), 0.1, 4.9)]


def _rudder_asked(sailed: Sailed) -> list[Wire]:
    return _rudder(sailed, np.array(sailed.every(ASKED_EVERY_S, 0.0005), np.int64) + sailed.start)


def _rudder_unasked(sailed: Sailed) -> list[Wire]:
    return _rudder(sailed, np.zeros(0, np.int64))


def _ramp(sailed: Sailed) -> list[Wire]:
    times, payloads = sailed.readings(0, "BowRampPanel")
    commands = [one[1] & 3 for one in payloads]
    length = sailed.end - sailed.start
    panel = panel_line(times, commands, sailed.start, sailed.end, sailed.seed)
    volts = motor_volts(times, commands, sailed.start)
    return [
        Wire("panel", panel, 0.4, 12.1),
        Wire("motor", Logic(0, length, 0, np.zeros(0, np.int64)), 0.0, 0.0, curve=volts),
    ]


def _trims(sailed: Sailed, at: list[int]) -> list[tuple[int, int]]:
    """Port and starboard trim at some moments, as the sensors have them: 12 bits."""
    times, payloads = sailed.readings(0, "TrimTabs")
    if not len(times):
        return [(2_048, 2_048)] * len(at)
    place = np.clip(np.searchsorted(times - sailed.start, at, side="right") - 1, 0, len(times) - 1)
    found = []
    for row in place.tolist():
        word = int.from_bytes(payloads[row], "little")
        found.append(((word & 0x3FF) << 2, (word >> 16 & 0x3FF) << 2))
    return found


def _trim_spi(sailed: Sailed) -> list[Wire]:
    at = sailed.every(0.010, 0.001)
    transfers = []
    for time, (port, starboard) in zip(at, _trims(sailed, at), strict=True):
        for which, value in ((0, port), (1, starboard)):
            # A register is asked for; with its value comes a status byte.
            transfers.append((time + which * 60_000.0, which, (0x83, 0x00, 0x00), (0x40, value >> 8, value & 0xFF)))
    lines = spi_lines(transfers, sailed.end - sailed.start)
    return [
        Wire(name, line, 0.05, 3.25) for name, line in zip(("sck", "mosi", "miso", "cs0", "cs1"), lines, strict=True)
    ]


def _trim_i2c(sailed: Sailed) -> list[Wire]:
    at = sailed.every(0.020, 0.002)
    transfers = []
    for number, time in enumerate(at):
        sixteenths = 27 * 16 + number // 8 % 24
        parts = [[(TEMPERATURE << 1, 0), (0x00, 0)],
                 [(TEMPERATURE << 1 | 1, 0), (sixteenths >> 4, 0), (sixteenths << 4 & 0xFF, 1)]]  # fmt: skip
        transfers.append((float(time), parts, 120_000.0 if number % 10 == 3 else 0.0))
        if number % 25 == 7:
            transfers.append((time + 3_000_000.0, [[(NOBODY << 1, 1)]], 0.0))
    lines = i2c_lines(transfers, sailed.end - sailed.start)
    return [Wire(name, line, 0.15, 3.2) for name, line in zip(("scl", "sda"), lines, strict=True)]


def _card(sailed: Sailed) -> list[Wire]:
    at = sailed.every(0.100, 0.020)
    tokens = [(1_000_000.0, card_opening(), SLOW_HZ)]
    tokens += [(float(time), card_write(0x2000 + 8 * number), FAST_HZ) for number, time in enumerate(at)]
    lines = card_lines(tokens, sailed.end - sailed.start)
    return [Wire(name, line, 0.0, 3.3) for name, line in zip(("clk", "cmd"), lines, strict=True)]


def _display(sailed: Sailed) -> list[Wire]:
    messages = []
    for number, time in enumerate(sailed.every(0.050, 0.003)):
        messages.append((float(time), bytes([0x90, 0x02, 0x02, 0x05])))
        messages.append((time + 90_000.0, bytes([0x00, 0x77, 0x77, 0x01, 0x03, number & 0xFF])))
    return [Wire("aux", aux_line(messages, sailed.end - sailed.start), -0.35, 0.35)]


def _shore(sailed: Sailed) -> list[Wire]:
    # Its partner unplugged: it says the same until somebody is there again.
    line = lone_line(SHORE_IDENT, b"\x01\x00\x90\x01", 500_000 * OFF, sailed.end - sailed.start)
    return [Wire("CANH", line, 3.5, 2.5, True), Wire("CANL", line, 1.5, 2.5)]


def _remote(sailed: Sailed) -> list[Wire]:
    return [Wire("receiver", remote_line(sailed.every(0.35, 0.05), sailed.end - sailed.start, sailed.seed), 0.0, 5.0)]


PROBES = {
    probe.word: probe
    for probe in (
        Probe("bus-a", "bus A at the connector, both wires", 200.0, 60.0, 0.02, _bus_a),
        Probe("depth", "the depth sounder, both directions", 10_000.0, 4_000.0, 0.15, _depth),
        Probe("rudder", "the rudder's sensor", 500.0, 900.0, 0.05, _rudder, rings=0.3),
        Probe("rudder-asked", "a rudder's sensor that waits to be asked", 500.0, 900.0, 0.05, _rudder_asked),
        Probe("rudder-unasked", "the same while nobody asks it", 500.0, 900.0, 0.05, _rudder_unasked),
        Probe(
            "ramp", "the ramp panel's single wire, with the ramp motor's voltage", 5_000.0, 6_000.0, 0.04, _ramp,
            Wanted("kline", ("panel",)), "1s:ramp=down 1.8s:ramp=stop 2.6s:ramp=up 3.3s:ramp=stop", 4.0,
        ),
        Probe("trim-spi", "the trim controller's position sensors (SPI)", 0.0, 0.0, 0.0, _trim_spi),
        Probe("trim-i2c", "the trim controller's temperature sensor (I2C)", 500.0, 250.0, 0.03, _trim_i2c),
        Probe("card", "the voyage logger's memory card", 0.0, 0.0, 0.0, _card),
        Probe("shore", "the shore link's stub, with nobody at its other end", 100.0, 60.0, 0.02, _shore, seconds=0.05),
        Probe("remote", "the gangway remote's receiver: a code that nobody knows", 0.0, 0.0, 0.0, _remote, seconds=4.0,
              wanted=Wanted("bursts")),
        Probe("display", "the helm display's auxiliary channel", 100.0, 40.0, 0.015, _display),
    )
}  # fmt: skip
"""Those lines that can be probed."""
