"""CAN interfaces: messages by hand from the kernel's layout, through socket pairs and through a socket of our own."""

from __future__ import annotations

import errno
import json
import struct
import time
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError
from keel.model.faults import Fault
from keel.model.frames import Flag, concat
from keel.model.identity import Form
from keel.sources.can_socket import (
    ALL_ERRORS,
    CAN_RAW_ERR_FILTER,
    CAN_RAW_FD_FRAMES,
    CAN_RAW_FILTER,
    CAN_RAW_RECV_OWN,
    EFF,
    SOL_CAN_RAW,
    CanSocket,
    IdFilter,
    filters_of,
    set_up,
)
from keel.sources.interfaces import Interface, command_for, interfaces
from keel.sources.kind import Given
from keel.sources.listening import ALONE
from keel.sources.socketcan import SocketCan, open_socket, read_only
from keel.sources.source import Lost, SourceGone
from keel.sources.trying_can import try_interfaces
from tests.sources.can_messages import OWN, FakeSocket, a_pair, classic, dropped, flexible, received_at

AT = 1_767_262_632_123_456_789
UP = [Interface("can0", True, 500_000), Interface("can1", True, 250_000, 2_000_000)]


def at_hand(*sockets: CanSocket, look: list[Interface] = UP) -> SocketCan:
    """The source, its interfaces' sockets given."""
    waiting = list(sockets)
    names = [one.name for one in look[: len(sockets)]]
    return SocketCan(names, None, lambda *_: waiting.pop(0), lambda: look)


def test_frames_of_all_kinds_come_through_a_socket() -> None:
    near, far = a_pair()
    source = at_hand(near)
    far.send(classic(0x1A0, b"\x01\x02"))
    far.send(classic(EFF | 0x18FEF117, bytes(range(8))))
    far.send(classic(0x4000_0000 | 0x123, b"", length=3))
    far.send(flexible(0x220, bytes(range(64)), flags=0x01))
    far.send(classic(0x2000_0000 | 0x20, bytes(8)))
    before = time.time_ns()
    frames = source.poll(1.0)
    assert frames.form.tolist() == [Form.BASE, Form.EXTENDED, Form.BASE, Form.BASE, Form.NONE]
    assert frames.ident.tolist()[:4] == [0x1A0, 0x18FEF117, 0x123, 0x220]
    assert [frames.payload(i) for i in (0, 1, 3)] == [b"\x01\x02", bytes(range(8)), bytes(range(64))]
    assert [int(f) for f in frames.flags] == [0, 0, Flag.REMOTE, Flag.FD | Flag.BRS, Flag.ERROR]
    assert int(frames.faults[4]) == int(Fault.ACK) and not frames.faults[:4].any()
    # The kernel's own times, of the sending.
    assert (np.abs(frames.time - before) < 5_000_000_000).all() and (np.diff(frames.time) > 0).all()
    assert source.said() == [] and source.skipped() == 0
    source.close()


def test_two_interfaces_come_in_order_of_time_each_on_its_bus() -> None:
    (one, to_one), (other, to_other) = a_pair(), a_pair()
    source = at_hand(one, other)
    for k in range(20):
        (to_one, to_other)[k % 2].send(classic(0x100 + k, b""))
    frames = source.poll(1.0)
    assert frames.ident.tolist() == [0x100 + k for k in range(20)]
    assert frames.bus.tolist() == [0, 1] * 10
    assert [(bus.name, bus.bit_rate, bus.assumed, bus.fast_assumed) for bus in source.buses] == [
        ("can0", 500_000, False, True),
        ("can1", 250_000, False, False),
    ]
    source.close()


def test_more_than_is_read_at_once_is_read_whole() -> None:
    near, far = a_pair()
    source = at_hand(near)
    far.setblocking(False)
    sent, found = 0, []
    for _ in range(40):
        for _ in range(200):
            try:
                far.send(classic(0x1A0, sent.to_bytes(4, "big")))
            except BlockingIOError:
                break
            sent += 1
        found.append(source.poll(0.0))
    found.append(source.poll(0.0))
    frames = concat([f for f in found if len(f)])
    assert [int.from_bytes(frames.payload(i), "big") for i in range(len(frames))] == list(range(sent)) and sent > 1000
    source.close()


def test_own_frames_times_and_drops_are_told_by_the_kernel() -> None:
    fake = FakeSocket(
        [
            (classic(0x100, b"a"), received_at(AT), 0),
            (classic(0x101, b"b"), received_at(AT + 1000) + dropped(3), OWN),
            (classic(0x102, b"c"), received_at(AT + 2000) + dropped(12), 0x4),
            (classic(0x103, b"d"), b"", 0),
        ]
    )
    source = at_hand(fake)
    frames = source.poll(1.0)
    assert frames.time[:3].tolist() == [AT, AT + 1000, AT + 2000] and frames.time[3] > AT
    assert [bool(f & Flag.TX) for f in frames.flags.tolist()] == [False, True, True, False]
    assert source.lost() == Lost(kernel=12)
    assert "1 frames came without a time of the kernel" in " ".join(source.said())


def test_drops_before_an_interface_went_away_still_count() -> None:
    gone = FakeSocket([(classic(1, b""), dropped(5), 0)], OSError(errno.ENETDOWN, "Network is down"))
    back = FakeSocket([(classic(1, b""), dropped(2), 0)])
    source = at_hand(gone)
    assert len(source.poll(1.0)) == 1
    with pytest.raises(
        SourceGone, match=r"the interface is down; sudo ip link set can0 down; sudo ip link set can0 up"
    ):
        source.poll(1.0)
    source._opened = lambda *_: back
    source.reopen()
    assert len(source.poll(1.0)) == 1 and source.lost() == Lost(kernel=7) and gone.closed


def test_what_is_no_frame_is_counted() -> None:
    fake = FakeSocket([(b"short", b"", 0), (flexible(0x1, bytes(65)), b"", 0), (classic(0x100, b"a"), b"", 0)])
    source = at_hand(fake)
    assert len(source.poll(1.0)) == 1 and source.skipped() == 2


def test_a_socket_is_asked_for_all_there_is() -> None:
    fake = FakeSocket()
    set_up(fake, [IdFilter(0x1A0, EFF | 0x7FF)])
    assert fake.options[SOL_CAN_RAW, CAN_RAW_FD_FRAMES] == fake.options[SOL_CAN_RAW, CAN_RAW_RECV_OWN] == 1
    assert fake.options[SOL_CAN_RAW, CAN_RAW_ERR_FILTER] == struct.pack("=I", ALL_ERRORS)
    assert fake.options[SOL_CAN_RAW, CAN_RAW_FILTER] == struct.pack("=II", 0x1A0, EFF | 0x7FF)
    other = FakeSocket()
    set_up(other, None)
    assert (SOL_CAN_RAW, CAN_RAW_FILTER) not in other.options


def passes(filters: Sequence[IdFilter], can_id: int) -> bool:
    """As the kernel has it: ``received & mask == id & mask``, for any of the filters."""
    return any(can_id & one.mask == one.ident & one.mask for one in filters)


@given(st.integers(0, 0x7FF), st.integers(0, 0x7FF), st.integers(0, 0x7FF))
def test_ranges_are_filtered_exactly(low: int, high: int, ident: int) -> None:
    low, high = min(low, high), max(low, high)
    filters = filters_of([(low, high, None, False)])
    assert passes(filters, ident) is (low <= ident <= high)
    assert not passes(filters, EFF | ident) and len(filters) <= 22


@given(st.integers(0, 0x1FFFFFFF), st.integers(0, 0x1FFFFFFF), st.integers(0, 0x1FFFFFFF))
def test_masks_are_filtered_exactly(ident: int, mask: int, other: int) -> None:
    filters = filters_of([(ident & mask, ident & mask, mask, True)])
    assert passes(filters, EFF | other) is (other & mask == ident & mask)
    assert not passes(filters, other & 0x7FF)


def test_only_takes_identifiers_as_asks_write_them() -> None:
    filters = read_only("id:1A0,220..223,18FE??17")
    for can_id, wanted in (
        (0x1A0, True), (0x1A1, False), (0x222, True), (0x224, False), (EFF | 0x18FEF117, True),
        (EFF | 0x18FEF118, False), (EFF | 0x1A0, False),
    ):  # fmt: skip
        assert passes(filters, can_id) is wanted, hex(can_id)


@pytest.mark.parametrize("text", ["fault", "id:1A0 len>3", "id:22O", "bus:a", "", "not id:1A0", "id:1.7.2", "id:none"])
def test_what_the_kernel_cannot_filter_by_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        read_only(text)


@pytest.mark.parametrize(
    ("number", "said"),
    [
        (errno.EAFNOSUPPORT, "this kernel has no CAN; sudo modprobe can_raw"),
        (errno.ENODEV, "there is no such interface; keel sources lists"),
        (errno.EPERM, "you may not read it; run keel as root"),
        (errno.EIO, "cannot be read"),
    ],
)
def test_why_an_interface_cannot_be_read_is_said_with_what_to_do(
    number: int, said: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: object) -> None:
        raise OSError(number, "no")

    monkeypatch.setattr("keel.sources.socketcan.socket.socket", refuse)
    with pytest.raises(SourceGone, match=said):
        open_socket("can7", None)


def network(folder: Path, **kinds: tuple[str, str]) -> Path:
    """A folder of interfaces as the system shows them: type and flags of each."""
    for name, (kind, flags) in kinds.items():
        (folder / name).mkdir(parents=True)
        (folder / name / "type").write_text(kind + "\n")
        (folder / name / "flags").write_text(flags + "\n")
    return folder


def ip_says(**details: object) -> object:
    def do(command: Sequence[str]) -> tuple[int, str]:
        assert list(command[:5]) == ["ip", "-details", "-json", "link", "show"]
        return (0, json.dumps([{"linkinfo": details[command[5]]}])) if command[5] in details else (1, "no")

    return do


def test_interfaces_are_found_as_the_system_shows_them(tmp_path: Path) -> None:
    folder = network(
        tmp_path, can0=("280", "0x40081"), eth0=("1", "0x1003"), vcan0=("280", "0x80"), can9=("280", "junk")
    )
    timing = {
        "bittiming": {"bitrate": 500000},
        "data_bittiming": {"bitrate": 2000000},
        "ctrlmode": ["LISTEN-ONLY", "FD"],
    }
    do = ip_says(can0={"info_kind": "can", "info_data": timing}, vcan0={"info_kind": "vcan"}, can9=["odd"])
    assert interfaces(folder, do) == [  # type: ignore[arg-type]
        Interface("can0", True, 500_000, 2_000_000, True, False),
        Interface("can9"),
        Interface("vcan0", False, 0, 0, False, True),
    ]
    assert interfaces(tmp_path / "nowhere") == []


class Bus:
    """A bus at which an interface hears frames at one rate and faults at others; every command is remembered."""

    def __init__(self, rate: int, idents: Sequence[int], is_up: bool = False, errors: Sequence[int] = (0x80,)) -> None:
        self.rate, self.idents, self.errors = rate, idents, errors
        self.set_to, self.is_up, self.commands = rate if is_up else 0, is_up, list[list[str]]()

    def look(self) -> list[Interface]:
        return [Interface("can0", self.is_up, self.set_to)]

    def do(self, command: Sequence[str]) -> tuple[int, str]:
        self.commands.append(list(command))
        self.set_to = int(command[command.index("bitrate") + 1]) if "bitrate" in command else 0
        return 0, ""

    def source(self, name: str) -> SocketCan:
        right = self.set_to == self.rate
        said = [classic(one, bytes(8)) for one in self.idents] if right else []
        said += [classic(0x2000_0000 | one, bytes(8)) for one in self.errors] if self.errors and not right else []
        return at_hand(FakeSocket([(one, b"", 0) for one in said]), look=[Interface("can0", True, self.set_to)])


def tried(bus: Bus, may_set: bool = True) -> tuple[str, bool, tuple[str, ...]]:
    given = Given("can", "can0")
    verdict = try_interfaces(given, lambda: False, bus.source, bus.look, bus.do, lambda: may_set, 0.05)
    return verdict.words, verdict.good, verdict.notes


def test_an_interface_that_is_up_is_listened_at_and_left_as_it_is() -> None:
    bus = Bus(500_000, [0x100, 0x101, 0x100], is_up=True)
    words, good, _ = tried(bus)
    assert words.startswith("good, 2 identifiers, ") and words.endswith(" % load at 500 kbit/s")
    assert good and bus.commands == []


def test_one_that_is_down_is_taken_up_only_listening_at_one_rate_after_another_and_down_again() -> None:
    bus = Bus(125_000, [0x100] * 9)
    words, good, notes = tried(bus)
    assert words.startswith("good, 1 identifier") and "at 125 kbit/s" in words and not good
    assert command_for("can0", 125_000) in notes[0]
    ups = [command for command in bus.commands if "bitrate" in command]
    assert all(command[-2:] == ["listen-only", "on"] for command in ups)
    assert [command[command.index("bitrate") + 1] for command in ups] == ["500000", "250000", "125000"]
    assert bus.commands[-1] == ["ip", "link", "set", "can0", "down"]


def test_without_the_right_the_command_is_shown_and_nothing_is_done() -> None:
    bus = Bus(500_000, [])
    words, good, _ = tried(bus, may_set=False)
    assert words == f"not tried: it is down, and only an administrator may take it up: {command_for('can0', 500_000)}"
    assert not good and bus.commands == []


def test_silence_and_faults_alone_are_told_apart() -> None:
    assert tried(Bus(123, [], errors=()))[0] == "no traffic"
    assert tried(Bus(123, [0x100]))[0] == "traffic, but only faults at all usual rates"
    assert try_interfaces(Given("can", "can5"), lambda: False, Bus(1, []).source, lambda: []).words == (
        "there is no such interface"
    )


def test_who_listens_alone_with_one_sender_is_told_that_acknowledgements_are_missing() -> None:
    bus = Bus(500_000, [], is_up=True)

    def source(name: str) -> SocketCan:
        faults = [(classic(0x2000_0020, bytes(8)), b"", 0)] * 6
        return at_hand(FakeSocket([(classic(0x100, b"a"), b"", 0), *faults]))

    verdict = try_interfaces(Given("can", "can0"), lambda: False, source, bus.look, bus.do, lambda: True, 0.05)
    assert ALONE in verdict.notes
