"""I2C read from its two wires, as a controller written from the specification drives them."""

from __future__ import annotations

import json
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from keel.lines.clocked import Wire
from keel.lines.code import Asked, Guess, How
from keel.lines.i2c import explain, read
from keel.model.faults import fault_words
from keel.model.frames import Flag
from keel.model.waveform import Logic
from tests.command import keel
from tests.lines.chips import Byte, i2c
from tests.lines.waves import vcd
from tests.lines.wires import shaken

SENT: list[list[Byte]] = [
    [(0xA0, 0), (0x12, 0), (0x34, 0)],
    [(0xA0, 0), (0x12, 0)], [(0xA1, 0), (0x55, 0), (0xAA, 1)],
    [(0x44, 1)],
    [(0xF4, 0), (0x33, 0), (0x01, 0)], [(0xF5, 0), (0x07, 0), (0x08, 1)],
]  # fmt: skip


def wires(lines: dict[str, Logic]) -> list[Wire]:
    return [Wire("scl", "clock", lines["scl"]), Wire("sda", "data", lines["sda"])]


def said(lines: dict[str, Logic]) -> Guess:
    (found,) = read(wires(lines), Asked())
    return found


def test_addresses_of_7_and_10_bits_directions_and_acknowledgements_are_read() -> None:
    found = said(i2c(SENT * 4, again=[1 + 6 * k for k in range(4)] + [4 + 6 * k for k in range(4)]))
    frames = found.frames
    rows = [(int(frames.ident[k]), frames.payload(k).hex(), bool(frames.flags[k] & Flag.TX),
             fault_words(int(frames.faults[k]))) for k in range(6)]  # fmt: skip
    assert rows == [
        (0x50, "1234", True, []), (0x50, "12", True, []), (0x50, "55aa", False, []), (0x22, "", True, ["ack"]),
        (0x233, "01", True, []), (0x233, "0708", False, []),
    ]  # fmt: skip
    assert len(frames) == 24 and abs(found.rate - 400e3) < 1
    assert frames.duration is not None
    # A repeated start ends one transfer and begins the next.
    assert frames.time[1] + frames.duration[1] == frames.time[2]


def test_a_clock_that_is_held_low_is_followed_and_said() -> None:
    found = said(i2c(SENT * 4, held={2: 60_000.0, 9: 30_000.0}))
    assert len(found.frames) == 24 and found.faulty == 4
    assert found.said == ("the clock is held low 2 times, up to 61.2 µs: stretched, or a pause",)


def test_what_ends_within_a_byte_is_said() -> None:
    lines = i2c([[(0xA0, 0), (0x12, 0)]] * 3)
    scl, sda = lines["scl"], lines["sda"]
    # The recording ends within the last transfer: that is none. The first one loses two clocks.
    cut = Logic(0, scl.end, 1, scl.edges[[k for k in range(len(scl.edges)) if k not in (20, 21, 22, 23)]])
    found = said({"scl": cut, "sda": sda})
    assert fault_words(int(found.frames.faults[0])) == ["length"]
    assert [fault_words(int(one)) for one in found.frames.faults[1:]] == [[], []]
    short = Logic(0, int(scl.edges[-8]), 1, scl.edges[:-8])
    assert len(said({"scl": short, "sda": sda.part(0, short.end)}).frames) == 2


def test_fields_lie_over_their_bits_and_hold_what_is_on_the_wire() -> None:
    lines = i2c(SENT * 4)
    found = said(lines)
    frames = found.frames
    assert frames.duration is not None
    start, end = int(frames.time[0]), int(frames.time[0] + frames.duration[0])
    fields = explain(wires(lines), How(found.how, found.settings), start, end, int(frames.form[0]))
    assert [one.name for one in fields] == ["start", "address", "rw", "ack", "byte", "ack", "byte", "ack", "stop"]
    assert b"".join(one.raw for one in fields) == b"\xa0\x12\x34"
    assert fields[0].start == start and fields[-1].end == end
    assert all(a.end <= b.start + 1 for a, b in zip(fields, fields[1:], strict=False))
    refused = explain(
        wires(lines), How(found.how, {}), int(frames.time[3]), int(frames.time[3] + frames.duration[3]), 29
    )
    assert [(one.name, one.fault) for one in refused if one.fault] == [("ack", "ack")]


@given(
    st.lists(st.lists(st.integers(0, 255), min_size=0, max_size=5), min_size=6, max_size=12),
    st.integers(0, 100), st.sampled_from([10e3, 100e3, 1e6]),
)  # fmt: skip
@settings(max_examples=25)
def test_what_is_sent_is_read(payloads: list[list[int]], seed: int, rate: float) -> None:
    sent = [[(0x4E, 0), *((byte, 0) for byte in payload)] for payload in payloads]
    lines = {name: shaken(one, 0.01e9 / rate, seed) for name, one in i2c(sent, rate).items()}
    frames = said(lines).frames
    assert [list(frames.payload(k)) for k in range(len(frames))] == payloads


def test_it_is_found_among_wires_of_any_names(tmp_path: Path) -> None:
    lines = i2c(SENT * 10, again=[1])
    file, folder = tmp_path / "p.vcd", tmp_path / "r.keel"
    file.write_bytes(vcd(blue=lines["sda"], green=lines["scl"]))
    done = json.loads(keel("decode", file, "-o", folder, "--json").stdout)
    (line,) = done["lines"]
    assert line["code"] == "i2c" and line["bus"] == "i2c" and line["frames"] == 60
    assert line["runner_up"] is None or line["runner_up"]["explained"] < 0.5
    rows = [json.loads(row) for row in keel("frames", folder, "--json", "--fields").stdout.splitlines()]
    assert (rows[2]["id"], rows[2]["dir"], rows[2]["payload"], rows[2]["raw"]) == ("50", "rx", "55AA", "A155AA")
    assert rows[4]["id"] == "233" and rows[3]["faults"] == ["ack"]
