"""The ferry: repeatable, plausible, and out of order just as it says."""

from __future__ import annotations

import numpy as np
import pytest

from keel.bench.controls import CONTROLS, Control, parse_setting
from keel.bench.ferry import Ferry
from keel.bench.messages import BUSES, PLANS, full_dictionary, published_dictionary
from keel.bench.payloads import crc8
from keel.errors import ControlError
from keel.media.can import parameter_group
from keel.model.bus import wire_ns
from keel.model.faults import Fault
from keel.model.frames import FD_LENGTHS, Bytes, Flag, FrameBatch, concat
from keel.model.units import NS_PER_S
from keel.signals.dictionary import Dictionary
from tests.making import same_frames

FULL = full_dictionary()


def values(batch: FrameBatch, message: str, signal: str) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    """A signal's values over a batch, faulty frames left out."""
    known = next(m for m in FULL.messages if m.name == message)
    field = next(s for s in known.signals if s.name == signal)
    return field.values(payloads(batch, known.ident))


def payloads(batch: FrameBatch, ident: int) -> Bytes:
    rows = np.flatnonzero((batch.ident == ident) & (batch.faults == 0))
    taken = batch.take(rows)
    return taken.matrix(0, len(taken), int(taken.lengths.max(initial=0)))


def test_the_same_seed_sails_the_same_voyage_however_time_is_cut() -> None:
    one, two = Ferry(7), Ferry(7)
    whole = one.advance(6)
    parts = concat([two.advance(0.02 * (1 + i % 5)) for i in range(100)])
    count = min(len(whole), len(parts))
    assert count > 4000
    assert same_frames(whole.slice(0, count), parts.slice(0, count))
    assert not same_frames(Ferry(8).advance(6).slice(0, 100), whole.slice(0, 100))


def test_faults_too_are_the_same_however_time_is_cut() -> None:
    def sail(steps: list[float]) -> FrameBatch:
        ferry, out = Ferry(3), []
        out.append(ferry.advance(2))
        ferry.set("thruster", "port")
        out += [ferry.advance(s) for s in steps]
        return concat(out)

    a, b = sail([3.0]), sail([0.06] * 50)
    count = min(len(a), len(b))
    assert same_frames(a.slice(0, count), b.slice(0, count))
    assert (a.faults[:count] > 0).sum() > 10


def test_thirty_identifiers_talk_on_two_buses() -> None:
    batch = Ferry(1).advance(5)
    keys = np.unique(batch.keys())
    assert len(keys) >= 30
    assert {int(k) >> 56 for k in keys} == {0, 1}
    assert (np.diff(batch.time) >= 0).all()
    assert len({p.ident for p in PLANS}) == len(PLANS)


def test_frames_of_a_bus_never_overlap() -> None:
    ferry = Ferry(2)
    ferry.set("thruster", "starboard")
    batch = ferry.advance(10)
    ends = batch.time + np.ceil(wire_ns(batch.bus, batch.bits, batch.fast_bits, BUSES)).astype(np.int64)
    for bus in range(2):
        rows = batch.bus == bus
        assert (batch.time[rows][1:] >= ends[rows][:-1]).all()


def test_each_message_keeps_its_cycle() -> None:
    ferry = Ferry(1)
    ferry.set("shore", "plugged")
    batch = ferry.advance(20)
    for plan in PLANS:
        times = batch.time[batch.ident == plan.ident]
        expected = 20_000 / plan.cycle_ms * plan.burst
        assert abs(len(times) - expected) <= max(0.1 * expected, plan.burst + 1), plan.name


def test_sizes_are_ones_that_can_fd_has() -> None:
    for plan in PLANS:
        assert plan.size <= 8 or (plan.fd and plan.size in FD_LENGTHS)
        assert all(part.signal.field.last_byte < plan.size for part in plan.parts), plan.name


def test_signals_of_a_message_do_not_overlap() -> None:
    for message in FULL.messages:
        pages = {s.pages for s in message.signals}
        for page in pages:
            bits = [b for s in message.signals if s.pages in ((), page) for b in s.field.bits]
            assert len(bits) == len(set(bits)), message.name


def test_values_hang_together() -> None:
    ferry = Ferry(1)
    ferry.set("lever", "0")
    still = ferry.advance(10)
    ferry.set("lever", "80")
    ferry.advance(20)
    fast = ferry.advance(10)
    assert values(still, "HelmCommand", "lever").max() == 0
    assert values(fast, "HelmCommand", "lever")[-1] == pytest.approx(80, abs=0.1)
    for name in ("PodPortFeedback", "PodStarFeedback"):
        assert values(fast, name, "speed").mean() > 1300 > 50 > values(still, name, "speed").mean()
    assert values(fast, "PackOneStatus", "current").mean() > 5 * values(still, "PackOneStatus", "current").mean()
    assert values(fast, "Position", "speed")[-1] > 7
    torque = values(fast, "PodPortFeedback", "torque").mean()
    first_page = payloads(fast, 0x3D0)[payloads(fast, 0x3D0)[:, 0] == 0]
    known = next(m for m in FULL.messages if m.name == "DriveDiagnosis")
    again = next(s for s in known.signals if s.name == "portTorque").values(first_page).mean()
    assert again == pytest.approx(torque, rel=0.05)


def test_counters_count_and_checksums_hold() -> None:
    ferry = Ferry(1)
    ferry.set("fault-sum", "off")
    batch = ferry.advance(10)
    counter = values(batch, "HelmCommand", "counter")
    assert set(np.diff(counter) % 16) == {1}
    for ident in (0x0A4, 0x0B0, 0x0B1, 0x1A0):
        rows = payloads(batch, ident)
        assert np.array_equal(crc8(rows[:, :7]), rows[:, 7])


def test_the_checksum_has_its_published_check_value() -> None:
    # CRC-8/SAE-J1850 of "123456789" is 4B in the published catalogue of CRC parameters.
    assert crc8(np.frombuffer(b"123456789", np.uint8)[None, :]).tolist() == [0x4B]


def test_one_sum_of_a_thousand_is_wrong() -> None:
    batch = Ferry(1).advance(45)
    rows = payloads(batch, 0x0B1)
    wrong = int((crc8(rows[:, :7]) != rows[:, 7]).sum())
    assert wrong == sum(k % 1000 == 617 for k in range(len(rows))) > 0


def test_the_multiplexed_message_turns_its_pages() -> None:
    rows = payloads(Ferry(1).advance(5), 0x3D0)
    assert rows[:6, 0].tolist() == [0, 1, 2, 0, 1, 2]
    message = next(m for m in FULL.messages if m.name == "DriveDiagnosis")
    names = [{s.name for s in message.present(bytes(row))} for row in rows[:3]]
    assert "portTorque" in names[0] and "portTemperature" in names[1] and "hours" in names[2]
    assert "portTorque" not in names[1]


def test_the_ramp_moves_when_its_panel_lives_and_not_when_it_is_dead() -> None:
    ferry = Ferry(1)
    ferry.advance(1)
    ferry.set("ramp", "down")
    down = ferry.advance(4)
    assert values(down, "BowRampPanel", "command")[-1] == 2
    assert values(down, "BowRampState", "angle")[-1] == pytest.approx(20, abs=1)
    assert values(down, "BowRampState", "lock")[-1] == 0
    ferry.set("ramp", "stop")
    ferry.set("fault-panel", "on")
    ferry.advance(1)
    ferry.set("ramp", "up")
    dead = ferry.advance(4)
    assert {bytes(p) for p in payloads(dead, 0x221)} == {b"\x3c\x00"}
    assert len(set(values(dead, "BowRampState", "angle"))) == 1


def test_starting_the_thruster_throws_a_burst_of_faults_on_bus_a() -> None:
    ferry = Ferry(1)
    assert not ferry.advance(5).faults.any()
    ferry.set("thruster", "port")
    batch = ferry.advance(3)
    faulty = np.flatnonzero(batch.faults)
    assert len(faulty) > 10
    assert set(batch.bus[faulty]) == {0}
    assert set(batch.faults[faulty]) <= {int(Fault.CRC), int(Fault.STUFF)}
    assert batch.time[faulty[-1]] - batch.time[faulty[0]] < NS_PER_S
    assert (batch.flags[faulty] & Flag.ERROR).all()
    # Each destroyed frame is sent again, whole, as the next of its identifier.
    for row in faulty:
        later = np.flatnonzero((batch.ident == batch.ident[row]) & (np.arange(len(batch)) > row))
        assert batch.lengths[later[0]] == batch.lengths[row]
    ferry.set("thruster", "off")
    ferry.set("fault-thruster", "off")
    ferry.advance(2)
    ferry.set("thruster", "port")
    assert not ferry.advance(3).faults.any()


def test_the_trim_controller_drops_out_for_its_time() -> None:
    ferry = Ferry(1)
    before = ferry.advance(2)
    ferry.set("fault-trim", "now")
    batch = concat([before, ferry.advance(4)])
    gaps = np.diff(batch.time[batch.ident == 0x310])
    assert 1.25 * NS_PER_S < gaps.max() < 1.45 * NS_PER_S
    assert (gaps > 0.2 * NS_PER_S).sum() == 1


def test_pulling_the_shore_link_leaves_its_partner_unacknowledged() -> None:
    ferry = Ferry(1)
    at_sea = ferry.advance(3)
    assert not np.isin(at_sea.ident, (0x1C2, 0x1C3)).any()
    ferry.set("shore", "plugged")
    in_port = ferry.advance(5)
    assert (in_port.ident == 0x1C2).any() and not in_port.faults[in_port.ident == 0x1C3].any()
    ferry.set("shore", "unplugged")
    ferry.advance(1)
    batch = ferry.advance(5)
    assert not (batch.ident == 0x1C2).any()
    partner = batch.faults[batch.ident == 0x1C3]
    assert len(partner) >= 27 and set(partner) == {int(Fault.ACK)}
    ferry.advance(30)
    assert not (ferry.advance(5).ident == 0x1C3).any()


def test_she_sails_in_the_open_ocean_and_public_groups_say_what_they_should() -> None:
    batch = Ferry(1).advance(60)
    assert abs(values(batch, "Position", "latitude") - 0.1).max() < 0.05
    assert abs(values(batch, "Position", "longitude") + 30).max() < 0.05
    # SAE J1939-71: PGN 65265 bytes 2 and 3 are the speed in 1/256 km/h; a knot is 1.852 km/h.
    by_group = values(batch, "HotelSpeed", "speed")[-1]
    assert by_group == pytest.approx(values(batch, "Position", "speed")[-1] * 1.852, abs=0.2)
    public = {parameter_group(plan.ident) for plan in PLANS if plan.bus == "B"}
    proprietary = {group for group in public if group == 0xEF00 or group >= 0xFF00}
    # Transport protocol, active faults, hours, coolant, speed, battery.
    assert public - proprietary == {0xEC00, 0xEB00, 0xFECA, 0xFEE5, 0xFEEE, 0xFEF1, 0xFEF7}


def test_pack_two_s_temperature_is_now_and_then_not_available() -> None:
    ferry = Ferry(1)
    raw = payloads(ferry.advance(120), 0x1A1)[:, 5]
    assert 8 < (raw == 255).sum() < len(raw) / 4
    signal = next(s for m in FULL.messages if m.name == "PackTwoStatus" for s in m.signals if s.name == "temperature")
    assert signal.words(b"\0" * 5 + b"\xff\0\0") == "not available"


def test_what_is_published_leaves_something_to_find() -> None:
    published = published_dictionary()

    def names(d: Dictionary, message: str) -> set[str]:
        return {s.name for m in d.messages if m.name == message for s in m.signals}

    assert "angle" in names(FULL, "BowRampState") - names(published, "BowRampState")
    assert "command" in names(FULL, "BowRampPanel") - names(published, "BowRampPanel")
    assert len(published.messages) < len(FULL.messages)


@pytest.mark.parametrize("control", CONTROLS, ids=lambda c: c.name)
def test_every_control_can_be_worked(control: Control) -> None:
    ferry = Ferry(1)
    for value in control.choices or (f"{control.low:g}", f"{control.high:g}"):
        ferry.set(control.name, value)
        assert len(ferry.advance(0.2)) > 0


@pytest.mark.parametrize(
    "text, complaint",
    [
        ("ramp", "not of the form"),
        ("ramp=sideways", "takes up, stop, down, not “sideways”"),
        ("rampe=up", "no control is called “rampe”; ramp?"),
        ("lever=200", "takes 0 to 100 % or auto"),
        ("lever=nan", "takes 0 to 100"),
    ],
)
def test_wrong_settings_are_refused_with_what_would_do(text: str, complaint: str) -> None:
    with pytest.raises(ControlError, match=complaint.replace("?", r"\?")):
        parse_setting(text)


def test_settings_are_spelled_properly() -> None:
    assert parse_setting(" Ramp = DOWN ") == ("ramp", "down")
    assert parse_setting("lever=050.0") == ("lever", "50")
    assert parse_setting("lever=auto") == ("lever", "auto")
    with pytest.raises(ControlError):
        Ferry(1).set("nothing", "on")
