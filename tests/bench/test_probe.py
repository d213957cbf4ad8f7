"""Probes on the ferry's lines: what is on the wires is what her frames say, and it is read again."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.bench.ferry import Ferry
from keel.bench.probe import channels_of, probed_wires, write_probe
from keel.bench.probes import PROBES
from keel.bench.wires import can_frame
from keel.errors import InputError, RecordingError
from keel.lines.code import Asked
from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, Flag, concat
from keel.model.waveform import Analog, Channel
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import decode_channels
from tests.command import keel
from tests.lines.wires import CanFrame, can_bits

FLAG = st.booleans()


@given(
    extended=FLAG, fd=FLAG, brs=FLAG, esi=FLAG, number=st.integers(0, (1 << 29) - 1), size=st.integers(0, 15),
    fill=st.sampled_from([b"\x00", b"\xff", b"\x55", b"\xf8\x07", b"\x12\x34\x56"]),
)  # fmt: skip
def test_frames_are_sent_as_the_standard_has_them(
    extended: bool, fd: bool, brs: bool, esi: bool, number: int, size: int, fill: bytes
) -> None:
    length = FD_LENGTHS[size] if fd else size % 9
    data = (fill * 64)[:length]
    ident = number if extended else number & 0x7FF
    frame = CanFrame(ident, data, extended=extended, fd=fd, brs=fd and brs, esi=fd and esi)
    flags = int((Flag.FD if fd else 0) | (Flag.BRS if fd and brs else 0) | (Flag.ESI if fd and esi else 0))
    wanted, _ = can_bits(frame)
    bits, fast = can_frame(ident, extended, flags, FD_LENGTHS.index(length) if fd else length, data, data, True)
    assert list(zip(bits.tolist(), fast.tolist(), strict=True)) == [(bit, bool(at)) for bit, at in wanted]


@pytest.mark.parametrize("in_volts", [False, True])
def test_what_bus_a_says_is_read_from_its_wires(in_volts: bool) -> None:
    seconds = 0.4 if in_volts else 3.0
    events = [(0.1, "thruster", "port")]
    probe = PROBES["bus-a"]
    wires = probed_wires(probe, seconds, 3, events)
    ferry = Ferry(3, with_others=True)
    first = ferry.advance(0.1)
    ferry.set("thruster", "port")
    sent = concat([first, ferry.advance(seconds + 0.1)])
    sent = sent.take(np.flatnonzero((sent.bus == 0) & (sent.time < ferry.start_ns + round(seconds * 1e9) - 400_000)))
    channels = channels_of(probe, wires, 3) if in_volts else [
        Channel(wire.name, n, wire.line.inverted if wire.inverted else wire.line) for n, wire in enumerate(wires, 1)
    ]  # fmt: skip
    done = decode_channels([probed(one) for one in channels], [Wanted()], Asked())
    (line,) = done.lines
    assert line.guess.code == "canfd"
    assert (line.guess.rate, line.guess.fast_rate) == pytest.approx((500_000, 2_000_000), rel=5e-3)
    assert line.of.roles == {"CANH": "high", "CANL": "low"}
    # Error flags follow from the fault before them.
    everything = line.guess.frames
    read = everything.take(np.flatnonzero(everything.faults & np.uint32(Fault.ERROR_FLAG) == 0))
    read = read.take(np.flatnonzero(read.time < round(seconds * 1e9) - 400_000))
    assert len(read) == len(sent)
    assert np.abs(read.time - (sent.time - ferry.start_ns)).max() < 200
    good = sent.faults == 0
    assert in_volts or (~good).sum() > 3
    assert (read.ident[good] == sent.ident[good]).all() and (read.faults[good] == 0).all()
    rows = np.flatnonzero(good).tolist()
    assert [read.payload(row) for row in rows] == [sent.payload(row) for row in rows]
    for fault in (Fault.CRC, Fault.STUFF):
        assert ((read.faults & int(fault)) != 0)[(sent.faults & int(fault)) != 0].all()


@pytest.mark.parametrize(
    ("word", "code", "said"),
    [
        ("rudder-asked", "sent", "waits for requests: asked"),
        ("trim-spi", "spi", "which bit comes first"),
        ("trim-i2c", "i2c", "the clock is held low"),
        ("card", "card", "the clock changes: from 400 kHz to 25 MHz"),
        ("display", "manchester", ""),
    ],
)
def test_each_line_is_read_from_its_wires(word: str, code: str, said: str) -> None:
    probe, seconds = PROBES[word], 0.4 if word in ("card", "trim-i2c") else 0.2
    wires = probed_wires(probe, seconds, 2)
    done = decode_channels([probed(one) for one in channels_of(probe, wires, 2)], [Wanted()], Asked())
    (line,) = done.lines
    assert line.guess.code == code and line.guess.explained > 0.8 and said in " ".join(line.guess.said)
    faulty = line.guess.frames.faults != 0
    # Of all these one sensor alone was left out.
    assert faulty.sum() == (1 if word == "trim-i2c" else 0) and len(faulty) > 5


def test_a_sensor_that_nobody_asks_is_silent() -> None:
    probe = PROBES["rudder-unasked"]
    wires = probed_wires(probe, 0.1, 1)
    assert not len(wires[0].line.edges)
    done = decode_channels([probed(one) for one in channels_of(probe, wires, 1)], [Wanted()], Asked())
    assert not done.lines and "no swing: it rests at 4.9 V" in " ".join(done.channels[0].said())


def test_the_ramps_motor_follows_its_panel() -> None:
    probe = PROBES["ramp"]
    events = [(0.3, "ramp", "down"), (0.8, "ramp", "stop")]
    panel, motor = channels_of(probe, probed_wires(probe, 1.0, 1, events), 1)
    done = decode_channels([probed(panel), probed(motor)], [probe.wanted], Asked())
    (line,) = done.lines
    frames = line.guess.frames
    codes = [frames.payload(row)[0] for row in range(len(frames)) if frames.ident[row] == 0x31]
    assert codes == [0] * 5 + [0xA5] * 10 + [0] * 4
    assert isinstance(motor.wave, Analog)
    volts = motor.wave.volts()
    assert volts[:60_000].min() > 12.2 and volts[75_000:150_000].max() < 11 and volts[180_000:].min() > 12.2


def test_what_can_be_probed_is_listed_and_levels_are_no_volts(tmp_path: Path) -> None:
    said = keel("bench", "--probe", "list").stdout
    assert all(word in said for word in PROBES) and "levels" in said and "volts" in said
    refused = keel("bench", "--probe", "card", "--seconds", "1", "-o", tmp_path / "c.csv")
    assert refused.returncode != 0 and "an ending of .vcd" in refused.stderr


def test_the_sounder_is_asked_and_answers() -> None:
    wires = probed_wires(PROBES["depth"], 6.0, 1)
    done = decode_channels([probed(one) for one in channels_of(PROBES["depth"], wires, 1)], [Wanted()], Asked())
    host, device = done.lines
    assert (host.bus, device.bus, host.guess.inverted) == ("host", "device", True)
    assert host.guess.rate == pytest.approx(4_800, rel=5e-3)
    assert (host.of.roles, device.of.roles) == ({"host": "host"}, {"device": "device"})
    assert host.guess.frames.payload(0) == b"$CCSDQ,DPT*2A\r\n" and bool(host.guess.frames.flags[0] & Flag.TX)
    assert device.guess.frames.payload(0).startswith(b"$SDDPT,") and not device.guess.frames.flags[0] & Flag.TX
    assert any(sentence.startswith("speaks only after host: 100%") for sentence in device.guess.said)


@pytest.mark.parametrize("ending", ["vcd", "csv"])
def test_files_of_probes_are_decoded(tmp_path: Path, ending: str) -> None:
    path = tmp_path / f"depth.{ending}"
    done = keel("bench", "--probe", "depth", "--seconds", "3", "-o", path)
    assert done.returncode == 0 and "host and device" in done.stderr, done.stderr
    done = keel("decode", path, "-o", tmp_path / "x.keel", "--json")
    assert [(line["bus"], round(line["rate"], -2)) for line in json.loads(done.stdout)["lines"]] == [
        ("host", 4800),
        ("device", 4800),
    ]


def test_what_cannot_be_probed_is_refused(tmp_path: Path) -> None:
    (tmp_path / "x.vcd").write_text("")
    for word, seconds, name in (("mast", 1, "y.vcd"), ("depth", 1, "y.txt"), ("depth", 1000, "y.vcd")):
        with pytest.raises(InputError):
            write_probe(word, seconds, tmp_path / name)
    with pytest.raises(RecordingError):
        write_probe("depth", 1, tmp_path / "x.vcd")
    with pytest.raises(RecordingError, match="cannot be written"):
        write_probe("depth", 1, tmp_path / "no" / "y.vcd")
    assert keel("bench", "--probe", "depth").returncode == 2


@pytest.mark.parametrize("in_volts", [False, True])
def test_what_the_rudder_s_sensor_says_is_read_from_its_wire(in_volts: bool) -> None:
    seconds, probe = 0.5, PROBES["rudder"]
    wires = probed_wires(probe, seconds, 4)
    ferry = Ferry(4, with_others=True)
    sent = ferry.advance(seconds + 0.1)
    rows = np.flatnonzero((sent.bus == 0) & (sent.ident == 0x0C0))
    angles = {int.from_bytes(sent.payload(row)[:2], "big", signed=True) // 5 + 2_048 for row in rows.tolist()}
    channels = channels_of(probe, wires, 4) if in_volts else [Channel("rudder", 1, wires[0].line)]
    (line,) = decode_channels([probed(one) for one in channels], [Wanted()], Asked()).lines
    frames = line.guess.frames
    assert (line.guess.code, line.guess.faulty, line.bus) == ("sent", 0, "rudder") and len(frames) > 500
    said = [frames.payload(row) for row in range(len(frames))]
    values = [one[1] << 4 | one[2] >> 4 for one in said]
    assert set(values) <= angles and len(set(values)) > 1
    # The second value has all bits inverted, its lowest nibble first.
    seconds_said = [(one[2] & 15) | (one[3] >> 4) << 4 | (one[3] & 15) << 8 for one in said]
    assert [value ^ 0xFFF for value in values] == seconds_said


def test_the_shore_links_partner_repeats_what_nobody_acknowledges() -> None:
    probe = PROBES["shore"]
    wires = probed_wires(probe, 0.05, 1)
    (line,) = decode_channels([probed(one) for one in channels_of(probe, wires, 1)], [Wanted()], Asked()).lines
    told = next(one for one in line.guess.said if "in a row" in one)
    assert "1C3 was sent 40 times in a row (16 with an active error flag, 24 with a passive one)" in told
    assert told.endswith("then it was acknowledged")


def test_the_remotes_code_is_unknown_but_its_buttons_differ() -> None:
    probe = PROBES["remote"]
    wires = probed_wires(probe, 4.0, 1)
    channels = [probed(one) for one in channels_of(probe, wires, 1)]
    done = decode_channels(channels, [Wanted()], Asked())
    assert not done.lines and "--as bursts" in done.said["receiver"][0]
    (line,) = decode_channels(channels, [Wanted("bursts")], Asked()).lines
    frames = line.guess.frames
    payloads = [frames.payload(row) for row in range(len(frames))]
    assert len(set(payloads)) == 3 and payloads[0] == payloads[4] != payloads[8]
