"""Serial CAN adapters: the one that stands in, and ones of our own that refuse, lose and fall silent."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.bench.stand_in import stand_ins
from keel.model.faults import Fault
from keel.model.frames import FrameBatch, concat
from keel.sources.adapter_clock import AdapterClock
from keel.sources.can_adapter import CanAdapter
from keel.sources.registry import KINDS, given_source, open_source
from keel.sources.source import Lost, SourceGone
from keel.sources.trying_can import try_rates
from tests.sources.plugging import FakePort, opening, standing_in

NS = 1_000_000_000
NOW = 1_767_262_632 * NS


def taken(source: CanAdapter, enough: Callable[[FrameBatch], bool], polls: int = 200) -> FrameBatch:
    found: list[FrameBatch] = []
    for _ in range(polls):
        batch = source.poll(0.05)
        if len(batch):
            found.append(batch)
            if enough(concat(found)):
                break
    return concat(found)


def test_the_stand_in_is_recorded_at_the_rate_of_its_bus(tmp_path: Path) -> None:
    with standing_in(tmp_path / "port") as stand_in:
        source = open_source(f"adapter:{stand_in.link} rate=250000")
        assert isinstance(source, CanAdapter)
        frames = taken(source, lambda batch: len(batch) > 100)
        source.close()
    assert len(frames) > 100 and not frames.faults.any()
    assert source.buses[0].bit_rate == 250_000 and not source.buses[0].assumed
    # The adapter's times, to a millisecond, on this machine's clock.
    off = np.abs(np.diff(frames.time) / 1e6 - np.rint(np.diff(frames.time) / 1e6))
    assert frames.time[0] > NOW and np.median(off) < 0.1


def test_at_another_rate_only_faults_are_heard(tmp_path: Path) -> None:
    with standing_in(tmp_path / "port") as stand_in:
        source = CanAdapter(str(stand_in.link), 500_000)
        frames = taken(source, lambda batch: bool(batch.faults.any()))
        source.close()
    assert set(frames.faults.tolist()) <= {int(Fault.OTHER | Fault.WARNING)} and len(frames)


def test_trying_out_finds_the_rate(tmp_path: Path) -> None:
    with standing_in(tmp_path / "port") as stand_in:
        kind = KINDS["adapter"]
        assert kind.try_out is not None
        wrong = kind.try_out(given_source(f"adapter:{stand_in.link} rate=125000"), lambda: False)
        found = kind.try_out(given_source(f"adapter:{stand_in.link}"), lambda: False)
    assert (wrong.words, wrong.good) == ("traffic, but only faults at 125 kbit/s", False)
    assert found.good and found.settings == {"rate": 250_000}
    assert found.words.startswith("good, ") and " % load at 250 kbit/s" in found.words


def test_stand_ins_are_listed_while_they_run(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keel.bench.stand_in.user_state_path", lambda _: tmp_path)
    (tmp_path / "adapters").mkdir()
    link = tmp_path / "adapters" / "adapter"
    with standing_in(link):
        assert stand_ins() == [link]
        assert [offer.given.where for offer in KINDS["adapter"].there()] == [str(link)]
    assert stand_ins() == []


def test_it_goes_away_and_comes_back(tmp_path: Path) -> None:
    with standing_in(tmp_path / "port"):
        source = CanAdapter(str(tmp_path / "port"), 250_000)
        assert len(taken(source, lambda batch: len(batch) > 10)) > 10
    with pytest.raises(SourceGone, match="unplugged"):
        taken(source, lambda _: False)
    with pytest.raises(SourceGone, match="no such port"):
        source.reopen()
    with standing_in(tmp_path / "port"):
        source.reopen()
        assert len(taken(source, lambda batch: len(batch) > 10)) > 10
        source.close()


def adapter(refuses: str = "", says: bytes = b"") -> Callable[[bytes], bytes]:
    """An adapter that refuses some commands, and says something once its channel is open."""

    def answer(data: bytes) -> bytes:
        said = b""
        for line in data.split(b"\r")[:-1]:
            word = line[:1].decode()
            if word and word in refuses:
                said += b"\a"
            else:
                said += b"V1013\r" if word == "V" else b"F00\r" if word == "F" else b"\r"
                said += says if word in ("L", "O") and word else b""
        return said

    return answer


@pytest.mark.parametrize(
    ("refuses", "why"),
    [("S", "refuses 500 kbit/s"), ("L", "refuses to only listen; listen=no has it take part")],
)
def test_what_an_adapter_refuses_is_said(refuses: str, why: str) -> None:
    port = FakePort(adapter(refuses))
    with pytest.raises(SourceGone, match=why):
        CanAdapter("/dev/it", 500_000, opened=opening(port))
    assert port.closed


def test_what_cannot_only_listen_is_not_tried() -> None:
    def open_at(rate: int) -> CanAdapter:
        return CanAdapter("/dev/it", rate, opened=opening(FakePort(adapter("L"))))

    assert "cannot only listen" in try_rates(given_source("adapter:/dev/it"), lambda: False, open_at, 0.1).words


def test_it_only_listens_unless_it_is_told_otherwise() -> None:
    for listen, word in ((True, b"L\r"), (False, b"O\r")):
        port = FakePort(adapter())
        CanAdapter("/dev/it", 250_000, listen, opened=opening(port)).close()
        assert port.written.endswith(b"S5\rZ1\r" + word + b"C\r")


def test_answers_that_come_late_are_not_taken_for_others() -> None:
    """One that was just plugged in answers what was sent first only when the next command comes."""
    late: list[bytes] = []

    def answer(data: bytes) -> bytes:
        said = (
            b"".join(late) + adapter()(data) if b"V" in data else b"" if b"C" in data and not late else adapter()(data)
        )
        late[:] = [b"\r\r\a"] if b"C" in data and b"V" not in data else []
        return said

    source = CanAdapter("/dev/it", 250_000, opened=opening(FakePort(answer)))
    assert source.said() == []


def test_where_nothing_answers_that_is_said() -> None:
    with pytest.raises(SourceGone, match="nothing answers there as an adapter does"):
        CanAdapter("/dev/it", 500_000, opened=opening(FakePort()))


def test_without_times_frames_have_that_of_their_reading() -> None:
    port = FakePort(adapter("Z", b"t1230\rt1231"))
    source = CanAdapter("/dev/it", 500_000, opened=opening(port), now_ns=lambda: NOW)
    port.say(b"AA\rtXX\r")
    frames = taken(source, lambda batch: len(batch) == 2)
    assert frames.time.tolist() == [NOW, NOW] and source.skipped() == 1
    assert any("gives no times" in sentence for sentence in source.said())


def test_what_it_says_it_lost_is_counted() -> None:
    port = FakePort(adapter("", b"F09\re1o\rsp000000\rt1230\r"))
    source = CanAdapter("/dev/it", 500_000, opened=opening(port), now_ns=lambda: NOW)
    frames = taken(source, lambda batch: len(batch) == 2)
    assert sorted(frames.faults.tolist()) == [0, int(Fault.PASSIVE)]
    assert source.lost() == Lost(source=2) and "said 2 times that it lost frames" in " ".join(source.said())


@given(
    st.lists(st.integers(0, 200_000), min_size=1, max_size=30),
    st.integers(0, 59_999),
    st.lists(st.integers(0, 40), min_size=30, max_size=30),
)
def test_times_go_on_over_the_minute_and_over_silent_minutes(steps: list[int], first: int, delays: list[int]) -> None:
    """Frames that come some ms late, after silences of up to three minutes: their times are right to the delay."""
    clock, device, got, true = AdapterClock(), 0, [], []
    for step, delay in zip(steps, delays, strict=False):
        device += step
        stamp = (first + device) % 60_000
        got += clock.times(np.array([stamp]), NOW + (device + delay) * 1_000_000).tolist()
        true.append(NOW + device * 1_000_000)
    errors = [(a - b) / 1e6 for a, b in zip(got, true, strict=True)]
    # Never early; never later than the way took, but for what the two clocks may drift apart.
    assert min(errors) >= -0.001 and all(e <= d + 0.001 for e, d in zip(errors, delays, strict=False))


def test_several_frames_read_at_once_keep_their_distances() -> None:
    times = AdapterClock().times(np.array([59_990, 59_999, 3, 10]), NOW)
    assert np.diff(times).tolist() == [9_000_000, 4_000_000, 7_000_000] and times[-1] == NOW


@pytest.mark.parametrize("word", ["rate=123", "rate=abc", "listen=perhaps", "baud=0", "baud=-5", "speed=1", "rate="])
def test_odd_values_of_parameters_are_refused(word: str) -> None:
    with pytest.raises(ValueError):
        given_source(f"adapter:/dev/it {word}")
