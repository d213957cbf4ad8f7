"""Lines of simulated circuits, written in hardware languages: what their own benches say they sent is what is read.

Code, wires and rates are found by themselves among all that a dump holds: clocks, counters, states, copies.
"""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import pytest

from keel.formats.waveforms import read_waveforms
from keel.lines.code import Asked
from keel.model.frames import Flag, FrameBatch
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import Decoded, decode_channels

HERE = Path(__file__).parent
pytestmark = pytest.mark.soak


@dataclass(frozen=True)
class Run:
    """What a bench put on its wires, and what it printed of that, line by line in words."""

    dump: Path
    said: list[list[str]]

    def rows(self, kind: str) -> list[list[int]]:
        return [[int(word) for word in words[1:]] for words in self.said if words and words[0] == kind]


def needs(tool: str) -> None:
    assert shutil.which(tool), f"{tool} is missing: make soak installs it"


def simulated(folder: Path, bench: str, settings: Mapping[str, int]) -> Run:
    """A Verilog bench, run."""
    needs("iverilog")
    chosen = [f"-Pbench.{name}={value}" for name, value in settings.items()]
    subprocess.run(["iverilog", "-g2005-sv", *chosen, "-o", "bench", str(HERE / bench)], cwd=folder, check=True)
    done = subprocess.run(["vvp", "-n", "bench"], cwd=folder, check=True, capture_output=True, text=True)
    return Run(folder / "out.vcd", [line.split() for line in done.stdout.splitlines()])


def found_in(run: Run) -> Decoded:
    channels = [probed(one) for one in read_waveforms(run.dump, (), lambda *_: None)[1]]
    return decode_channels(channels, [Wanted()], Asked())


def payloads(frames: FrameBatch) -> list[bytes]:
    return [frames.payload(row) for row in range(len(frames))]


@pytest.mark.parametrize("bits, parity, stops", [(8, 0, 1), (8, 1, 1), (8, 2, 1), (7, 1, 2), (8, 0, 2), (9, 0, 1)])
@pytest.mark.parametrize("gap", [0, 3])
def test_a_serial_sender(tmp_path: Path, bits: int, parity: int, stops: int, gap: int) -> None:
    settings = {"BITS": bits, "PARITY": parity, "STOPS": stops, "GAP": gap, "WRONG": 50 if parity else 0}
    run = simulated(tmp_path, "serial.v", settings)
    (line,) = found_in(run).lines
    guess = line.guess
    told = (line.bus, guess.code, guess.settings["bits"], guess.settings["parity"])
    assert told == ("tx", "uart", bits, ("none", "odd", "even")[parity])
    size = 2 if bits > 8 else 1
    sent = b"".join(value.to_bytes(size, "big") for value, _ in run.rows("byte"))
    assert b"".join(payloads(guess.frames)) == sent
    assert guess.faulty >= (1 if parity else 0) and guess.rate == pytest.approx(1e9 / (16 * 542), rel=1e-3)


def test_a_serial_sender_in_vhdl(tmp_path: Path) -> None:
    needs("ghdl")
    for step in (["-a", "--std=08", str(HERE / "serial.vhd")], ["-e", "--std=08", "bench"]):
        subprocess.run(["ghdl", *step], cwd=tmp_path, check=True)
    done = subprocess.run(
        ["ghdl", "-r", "--std=08", "bench", "--vcd=out.vcd"], cwd=tmp_path, check=True, capture_output=True, text=True
    )
    run = Run(tmp_path / "out.vcd", [line.split() for line in done.stdout.splitlines()])
    (line,) = found_in(run).lines
    assert (line.bus, line.guess.settings["bits"], line.guess.settings["parity"]) == ("txd", 8, "even")
    assert b"".join(payloads(line.guess.frames)) == bytes(value for value, _ in run.rows("byte"))


@pytest.mark.parametrize("mode", range(4))
@pytest.mark.parametrize("word, lsb", [(8, 0), (16, 1), (12, 0)])
def test_a_host_with_two_selects(tmp_path: Path, mode: int, word: int, lsb: int) -> None:
    run = simulated(tmp_path, "spi.v", {"CPOL": mode >> 1, "CPHA": mode & 1, "WORD": word, "LSB": lsb})
    done = found_in(run)
    (line,) = done.lines
    guess = line.guess
    assert guess.code == "spi" and guess.settings["mode"] == mode
    roles = dict(line.of.roles)
    assert roles["sck"] == "clock" and roles["cs_a"] == roles["cs_b"] == "select"
    assert (roles["mosi"], roles["miso"]) == ("out", "in")
    again = decode_channels(
        done.channels, [Wanted("spi", (), roles)], Asked(settings={"word": str(word), "order": "lsb" if lsb else "msb"})
    )
    frames = again.lines[0].guess.frames
    size = -(-word // 8)
    wanted: dict[int, tuple[bytes, bytes]] = {}
    for number, _, _, out, in_ in run.rows("word"):
        a, b = wanted.get(number, (b"", b""))
        wanted[number] = a + out.to_bytes(size, "big"), b + in_.to_bytes(size, "big")
    is_out = (frames.flags & Flag.TX) != 0
    sent = [frames.payload(row) for row in range(len(frames)) if is_out[row]]
    answered = [frames.payload(row) for row in range(len(frames)) if not is_out[row]]
    assert (sent, answered) == ([a for a, _ in wanted.values()], [b for _, b in wanted.values()])


def test_open_drains_with_a_held_clock(tmp_path: Path) -> None:
    run = simulated(tmp_path, "i2c.v", {})
    (line,) = found_in(run).lines
    frames = line.guess.frames
    assert line.guess.code == "i2c" and set(line.of.roles) == {"scl", "sda"}
    wanted = [(words[0] == "write", int(words[1]), words[2] == "1", bytes(map(int, words[3:])))
              for words in run.said if words and words[0] in ("write", "read")]  # fmt: skip
    got = [(bool(frames.flags[row] & Flag.TX), int(frames.ident[row]), frames.faults[row] == 0, frames.payload(row))
           for row in range(len(frames))]  # fmt: skip
    assert got == wanted


def test_a_cluster_of_responders(tmp_path: Path) -> None:
    run = simulated(tmp_path, "lin.v", {})
    (line,) = found_in(run).lines
    assert line.guess.code == "lin" and line.guess.rate == pytest.approx(1e9 / 52_083, rel=1e-3)
    frames = line.guess.frames
    got = [(int(frames.ident[row]), frames.payload(row), int(frames.faults[row]) == 0) for row in range(len(frames))]
    assert got == [(row[0], bytes(row[3:]), row[2] == 1) for row in run.rows("frame")]


def test_a_bus_with_its_driver_beside_it(tmp_path: Path) -> None:
    run = simulated(tmp_path, "can.v", {})
    done = found_in(run)
    (line,) = [line for line in done.lines if line.guess.code == "can"]
    assert len(done.lines) == 1 and line.bus == "bus"
    frames = line.guess.frames
    got = [(int(frames.form[row]), int(frames.ident[row]), frames.payload(row)) for row in range(len(frames))]
    assert got == [(row[0], row[1], bytes(row[2:])) for row in run.rows("frame")] and not frames.faults.any()
