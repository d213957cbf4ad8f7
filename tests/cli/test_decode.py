"""``keel decode`` and ``keel measure``: what is said on a line is found, whatever the probe and the file were."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from keel.lines.codes import CODES
from keel.lines.levels import levels_of, logic_of
from keel.model.waveform import Analog, Logic
from keel.store.recording import Recording
from tests.command import keel
from tests.lines.test_can_wave import FLEXIBLE, FRAMES
from tests.lines.waves import vcd, volts, wav
from tests.lines.wires import CanFrame, can, shaken, uart, wave

TEXT = b"$SDDPT,6.5,0.4,*7C\r\n"
CAN_LINE, CAN_SPANS = can(FRAMES * 6, 500_000 * 1.01)
FD_LINE, _ = can(FLEXIBLE * 4, 500_000, 2_000_000)


def noise(seed: int = 5) -> Logic:
    edges = np.cumsum(np.random.default_rng(seed).integers(200, 20_000, 4000))
    return Logic(0, int(edges[-1]) + 1000, 1, edges)


def decoded(folder: Path, data: bytes, *options: str, name: str = "probe.dat") -> dict[str, Any]:
    (folder / name).write_bytes(data)
    done = keel("decode", folder / name, "-o", folder / "out.keel", "--json", *options)
    assert done.returncode in (0, 1) and "Traceback" not in done.stderr, done.stderr
    found: dict[str, Any] = json.loads(done.stdout)
    assert set(found) == {"channels", "lines"}
    return found


def frames(folder: Path) -> list[dict[str, Any]]:
    lines = keel("frames", folder / "out.keel", "--json").stdout.splitlines()
    return [json.loads(line) for line in lines]


def test_can_is_found_in_a_dump_with_when_its_frames_began_and_ended(tmp_path: Path) -> None:
    found = decoded(tmp_path, vcd(bus=shaken(wave(CAN_LINE), 20)))
    (line,) = found["lines"]
    assert (line["bus"], line["code"], line["fast_rate"], line["inverted"]) == ("bus", "can", None, False)
    assert line["rate"] == pytest.approx(500_000, rel=0.012)
    assert (line["frames"], line["faulty"]) == (len(FRAMES) * 6, 0) and line["explained"] > 0.97
    said = frames(tmp_path)
    assert [one["id"] for one in said[:4]] == ["1A0", "000", "7FF", "18FEF117"]
    assert all(
        abs(one["t"] - a) < 100 and abs(one["t_end"] - b) < 2500 for one, (a, b) in zip(said, CAN_SPANS, strict=True)
    )
    assert said[5]["faults"] == ["ack"] and not Recording(tmp_path / "out.keel").snapshot().manifest.is_dated


def test_can_fd_and_both_its_rates_are_found(tmp_path: Path) -> None:
    (line,) = decoded(tmp_path, vcd(bus=shaken(wave(FD_LINE), 8)))["lines"]
    assert (line["code"], line["settings"]) == ("canfd", {"iso": "yes"})
    assert (line["rate"], line["fast_rate"]) == pytest.approx((500_000, 2_000_000), rel=1e-3)
    assert (line["frames"], line["faulty"]) == (len(FLEXIBLE) * 4, 0)
    old = [CanFrame(**{**frame.__dict__, "iso": False}) for frame in FLEXIBLE]
    (tmp_path / "old").mkdir()
    (line,) = decoded(tmp_path / "old", vcd(bus=wave(can(old, 500_000, 2_000_000)[0])))["lines"]
    assert line["settings"] == {"iso": "no"} and line["said"] == ["CAN FD from before ISO 11898-1:2015"]


def test_both_wires_of_a_pair_are_one_line_and_either_alone_does(tmp_path: Path) -> None:
    dominant = wave(CAN_LINE).inverted
    high, low = volts(dominant, 100, 2.5, 3.5, 60, 0.03), volts(dominant, 100, 2.5, 1.5, 60, 0.03, 2)
    rows = np.column_stack([np.arange(len(high)) * 1e-7, high, low])
    text = "time (s),CANH (V),CANL (V)\n" + "".join(f"{t:.7f},{a:.4f},{b:.4f}\n" for t, a, b in rows)
    found = decoded(tmp_path, text.encode())
    (line,) = found["lines"]
    assert (line["code"], line["inverted"], line["frames"], line["faulty"]) == ("can", True, len(FRAMES) * 6, 0)
    first = found["channels"][0]
    assert first["kind"] == "analog" and first["threshold"] == pytest.approx(3.0, abs=0.05) and first["idle"] == 0
    for channel, inverted in (("CANH", True), ("CANL", False)):
        folder = tmp_path / channel
        folder.mkdir()
        (line,) = decoded(folder, text.encode(), "--as", f"can:{channel}")["lines"]
        assert (line["bus"], line["inverted"], line["frames"]) == (channel, inverted, len(FRAMES) * 6)


def test_serial_text_is_found_in_sound_in_volts_and_upside_down(tmp_path: Path) -> None:
    line = wave(uart(TEXT * 6, 9600 * 1.008))
    for name, data, inverted in (
        ("sound", wav(volts(line, 1e9 / 48_000, -0.6, 0.6, noise=0.02), 48_000), False),
        (
            "rs232",
            b"Sample interval: 10 us\nX (V)\n"
            + "".join(f"{v:.3f}\n" for v in volts(line.inverted, 10_000, -9, 9, 4000, 0.2)).encode(),
            True,
        ),
    ):
        (tmp_path / name).mkdir()
        (found,) = decoded(tmp_path / name, data)["lines"]
        assert (found["code"], found["inverted"], found["faulty"]) == ("uart", inverted, 0)
        assert found["rate"] == pytest.approx(9600 * 1.008, rel=2e-3)
        assert found["settings"] == {"bits": 8, "parity": "none", "stop": 1.0, "order": "lsb", "delimiter": "lf"}
        said = frames(tmp_path / name)
        assert [bytes.fromhex(one["payload"]) for one in said] == [TEXT] * 6
        assert {(one["id"], one["dir"], one["medium"]) for one in said} == {("0", "rx", "serial")}


def test_two_unrelated_lines_in_one_file_are_two_buses(tmp_path: Path) -> None:
    found = decoded(tmp_path, vcd(bus=wave(CAN_LINE), talk=wave(uart(TEXT * 6, 9600)), dead=wave([(1, 1e8)])))
    assert [(line["bus"], line["code"]) for line in found["lines"]] == [("bus", "can"), ("talk", "uart")]
    assert "no edges: it stays high all the time" in found["channels"][2]["said"]
    times = [one["t"] for one in frames(tmp_path)]
    assert times == sorted(times)


@pytest.mark.parametrize("kind", ["noise", "dead", "stuck", "few"])
def test_what_says_nothing_is_not_guessed_at(tmp_path: Path, kind: str) -> None:
    lines = {
        "noise": noise(),
        "dead": wave([(0, 1e8)]),
        "stuck": wave([(0, 1e6), (1, 1e8)]),
        "few": wave([(1, 1e6), (0, 1e5), (1, 1e6)]),
    }
    found = decoded(tmp_path, vcd(x=lines[kind]))
    assert found["lines"] == [] and found["channels"][0]["said"]
    # What was recorded is kept, and opens.
    snapshot = Recording(tmp_path / "out.keel").snapshot()
    assert snapshot.frames == 0 and snapshot.span.end == lines[kind].end and snapshot.waveforms[0].entry.notes


def test_noise_has_no_good_can_frame_even_if_it_is_asked_for(tmp_path: Path) -> None:
    for seed in range(3):
        (tmp_path / str(seed)).mkdir()
        found = decoded(tmp_path / str(seed), vcd(x=noise(seed)), "--as", "can", "--rate", "500000")
        assert all(line["frames"] == line["faulty"] for line in found["lines"])


def test_what_is_said_is_used(tmp_path: Path) -> None:
    line = wave(uart(b"\x01\x02\x03\x04" * 8, 19_200, 8, "even", pauses=[0, 0, 0, 40] * 8))
    given = ("--as", "uart", "--rate", "19200", "--set", "parity=even", "--set", "length=4")
    (found,) = decoded(tmp_path, vcd(x=line), *given)["lines"]
    assert found["settings"]["parity"] == "even" and found["settings"]["length"] == 4 and found["frames"] == 8


def test_a_host_is_what_is_sent_and_a_device_what_is_received(tmp_path: Path) -> None:
    data = vcd(a=wave(uart(TEXT * 3, 9600)), b=wave(uart(b"OK\r\n" * 3, 9600)))
    found = decoded(tmp_path, data, "--as", "uart", "--channel", "a=host", "--channel", "2=device")
    assert [line["bus"] for line in found["lines"]] == ["a", "b"]
    assert {(one["bus"], one["dir"]) for one in frames(tmp_path)} == {("a", "tx"), ("b", "rx")}


@pytest.mark.parametrize(
    "options",
    [
        "--as morse", "--rate fast", "--rate 0", "--invert maybe", "--set parity", "--channel x", "--as can:nobody",
        "--as uart --set parity=perhaps", "--as uart --set bits=12", "--as uart --set gap=5",
        "--as uart --channel x=high", "--as uart --set delimiter=zz",
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_in_one_line(tmp_path: Path, options: str) -> None:
    (tmp_path / "p.vcd").write_bytes(vcd(x=wave(uart(TEXT, 9600))))
    done = keel("decode", tmp_path / "p.vcd", "-o", tmp_path / "out.keel", *options.split())
    assert done.returncode in (1, 2) and len(done.stderr.strip().splitlines()) == 1, done.stderr
    assert not (tmp_path / "out.keel").exists()


def test_measuring_tells_bit_times_and_rates_without_reading(tmp_path: Path) -> None:
    data = vcd(talk=wave(uart(TEXT * 6, 9600 * 1.01)), fd=wave(FD_LINE), dead=wave([(1, 1e8)]))
    (tmp_path / "p.vcd").write_bytes(data)
    talk, fd, dead = json.loads(keel("measure", tmp_path / "p.vcd", "--json").stdout)["channels"]
    assert (
        talk["nearest_rate"] == 9600
        and talk["deviation"] == pytest.approx(0.01, abs=0.002)
        and talk["fast_rate"] is None
    )
    assert talk["bit_time_ns"] == pytest.approx(1e9 / 9696, rel=0.003)
    assert (fd["nearest_rate"], fd["fast_rate"]) == (500_000, 2_000_000)
    assert dead["rate"] is None and dead["idle"] == 1
    assert "9,600 bit/s" in keel("measure", tmp_path / "p.vcd").stdout


# Levels.


def test_levels_edges_and_what_is_wrong_with_a_line() -> None:
    line = wave(uart(TEXT * 4, 9600))
    samples = volts(line, 5_000, 0.2, 3.1, 3_000, 0.05).astype(np.float32)
    levels = levels_of(Analog(0, 5_000.0, samples))
    assert levels.low == pytest.approx(0.2, abs=0.03) and levels.swing
    assert levels.high == pytest.approx(3.1, abs=0.03)
    found = logic_of(Analog(0, 5_000.0, samples), levels)
    assert len(found.edges) == len(line.edges) and np.abs(found.edges - line.edges).max() < 8_000
    flat = np.random.default_rng(1).normal(2.5, 0.003, 20_000).astype(np.float32)
    dead = levels_of(Analog(0, 1000.0, flat))
    assert not dead.swing and dead.said[0].startswith("no swing: it rests at 2.5 V")
    assert not len(logic_of(Analog(0, 1000.0, flat), dead).edges)


def test_a_wire_that_nobody_drives_is_said_to_float() -> None:
    times = np.arange(200_000) * 1e-5
    hum = 0.4 * np.sin(2 * np.pi * 50 * times) + 0.2 * np.sin(2 * np.pi * 3 * times)
    hum += np.random.default_rng(1).normal(0, 0.004, len(times))
    found = levels_of(Analog(0, 10_000.0, hum.astype(np.float32)))
    assert not found.swing and found.said[0].startswith("floating: it wanders by 1.22 V around 0 V")
    noise = np.random.default_rng(2).normal(0, 0.3, 50_000).astype(np.float32)
    assert levels_of(Analog(0, 1_000.0, noise)).said[0].startswith("noise alone")


def test_a_line_that_drifts_is_cut_where_it_is() -> None:
    line = wave(uart(TEXT * 40, 9600))
    plain = volts(line, 20_000, 0.0, 2.0, 0, 0.03)
    samples = (plain + np.linspace(0, 3.0, len(plain))).astype(np.float32)
    levels = levels_of(Analog(0, 20_000.0, samples))
    assert levels.drifts and any("drift" in sentence for sentence in levels.said)
    assert len(logic_of(Analog(0, 20_000.0, samples), levels).edges) == pytest.approx(len(line.edges), abs=4)


def test_help_names_every_code() -> None:
    said = keel("decode", "--help").stdout
    assert all(word in said for word in ("auto", *CODES))
