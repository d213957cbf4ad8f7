"""Which wires make a line together: by names of all kinds, and by what they do; noise makes none."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.lines.clocked import Wire
from keel.lines.code import Asked
from keel.lines.i2c import I2C
from keel.lines.spi import SPI
from keel.lines.together import CLOCKED, arranged, groups
from keel.model.waveform import Logic
from tests.lines.chips import Both, i2c, spi
from tests.lines.test_spi import talk
from tests.lines.wires import uart, wave


def test_channels_may_be_called_by_numbers_alone() -> None:
    wires = [Wire(str(n), "", line) for n, line in enumerate(i2c([[(0xA0, 0), (0x12, 0)]] * 20).values(), 1)]
    ((code, group),) = groups(wires, Asked())
    assert code is I2C and [(one.name, one.role) for one in group] == [("1", "clock"), ("2", "data")]
    wires = [Wire(str(n), "", line) for n, line in enumerate(spi(talk()).values())]
    ((code, group),) = groups(wires, Asked())
    assert code is SPI and {one.name: one.role for one in group}["3"] == "select"


@given(st.lists(st.text(max_size=12), min_size=4, max_size=4, unique=True))
def test_any_names_are_taken(names: list[str]) -> None:
    wires = [Wire(name, "", line) for name, line in zip(names, spi(talk()).values(), strict=True)]
    for code in CLOCKED.values():
        assert sum(one.role == "clock" for one in arranged(code, wires)) == 1


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("SPI1_MOSI", "out"), ("imu.miso", "in"), ("nCS", "select"), ("~CS0", "select"), ("flash cs_n", "select"),
        ("SCLK", "clock"), ("sck_2", "clock"), ("tx", ""), ("channel 4", ""), ("", ""),
    ],
)  # fmt: skip
def test_names_of_the_trade_say_what_a_wire_is(name: str, role: str) -> None:
    others = [Wire(f"x{n}", "", line) for n, line in enumerate(spi(talk()).values())]
    named = {
        one.name: one.role
        for one in arranged(SPI, [*others, Wire(name, "", Logic(0, 10, 1, others[0].logic.edges[:0]))])
    }
    assert named.get(name, "") == role or (not role and named.get(name, "") in ("", "out", "in"))


def test_a_select_that_goes_as_steadily_as_a_clock_is_none() -> None:
    lines = spi([Both([7, k % 256], [k % 251, 3], k % 2) for k in range(200)], selects=2)
    ((code, group),) = groups([Wire(name[::-1], "", line) for name, line in reversed(lines.items())], Asked())
    roles = {one.name[::-1]: one.role for one in group}
    assert code is SPI and (roles["sck"], roles["cs0"], roles["cs1"]) == ("clock", "select", "select")
    assert {roles["mosi"], roles["miso"]} == {"out", "in"}


def test_two_buses_in_one_file_are_two() -> None:
    one, two = i2c([[(0xA0, 0), (0x12, 0)]] * 20), i2c([[(0x44, 0), (0x77, 0), (0x01, 0)]] * 30, 100e3)
    wires = [Wire(f"{n}.{name}", "", line) for n, lines in enumerate((one, two)) for name, line in lines.items()]
    found = [{wire.name[0] for wire in group} for _, group in groups(wires, Asked())]
    assert sorted(map(sorted, found)) == [["0"], ["1"]]


def test_noise_and_lines_without_a_clock_make_none() -> None:
    for seed in range(20):
        random = np.random.default_rng(seed)
        lines = [np.unique(random.integers(0, 10**7, 3_000)) for _ in range(3)]
        assert not groups([Wire(str(n), "", Logic(0, 10**7, 1, one)) for n, one in enumerate(lines)], Asked())
    talks = [wave(uart(data, 115_200)) for data in (bytes(range(256)), bytes(range(255, -1, -1)), b"hello " * 40)]
    assert not groups([Wire(str(n), "", one) for n, one in enumerate(talks)], Asked())


def test_without_a_clock_it_is_said() -> None:
    still = Logic(0, 1_000, 1, np.zeros(0, np.int64))
    with pytest.raises(InputError, match="no channel is the clock"):
        arranged(I2C, [Wire("a", "data", still)])


def test_one_short_transfer_is_enough() -> None:
    lines = i2c([[(0x90, 0), (0x00, 0)]])
    ((code, _),) = groups([Wire(name, "", line) for name, line in lines.items()], Asked())
    assert code is I2C
    lines = spi([Both([0x9F, 0x00, 0x00], [0xFF, 0x20, 0x41])])
    ((code, _),) = groups([Wire(name, "", line) for name, line in lines.items()], Asked())
    assert code is SPI
