"""Serial ports through pseudo-terminals: one, two as a conversation, unplugged and back; and what is tried out."""

from __future__ import annotations

import math
import random
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.errors import ControlError, InputError
from keel.model.frames import Flag, FrameBatch, concat
from keel.sources.kind import Given
from keel.sources.recorder import start_recording
from keel.sources.registry import KINDS, given_source, open_source
from keel.sources.serial_line import Framing, Port, why_not
from keel.sources.serial_port import ORDER, SerialSource
from keel.sources.source import Source, SourceGone
from keel.sources.splitting import Split
from keel.sources.trying_serial import judged, look_at, try_serial
from keel.store.manifest import load_manifest
from tests.sources.plugging import FakePort, Line, opening


def taken(source: Source, count: int, polls: int = 100) -> FrameBatch:
    found: list[FrameBatch] = []
    for _ in range(polls):
        batch = source.poll(0.02)
        if len(batch):
            found.append(batch)
        if sum(map(len, found)) >= count:
            break
    return concat(found)


def payloads(batch: FrameBatch) -> list[bytes]:
    return [batch.payload(i) for i in range(len(batch))]


def test_lines_of_a_port_are_messages_with_the_time_they_came(tmp_path: Path) -> None:
    line = Line(tmp_path / "ttyX")
    source = open_source(f"serial:{line.path} rate=115200 delimiter=lf")
    before = time.time_ns()
    line.write(b"$DPT,4.3\r\n$DPT,4.4\r\nhalf \xff")
    frames = taken(source, 2)
    assert payloads(frames) == [b"$DPT,4.3\r\n", b"$DPT,4.4\r\n"]
    assert all(before - 5_000_000 < t <= time.time_ns() for t in frames.time.tolist())
    bus = source.buses[0]
    assert (bus.name, bus.medium, bus.bit_rate, bus.stamp, bus.assumed) == ("ttyX", "serial", 115_200, "start", False)
    assert payloads(source.finish()) == [b"half \xff"]
    source.close()
    line.unplug()


def test_two_ports_are_one_conversation(tmp_path: Path) -> None:
    host, device = Line(tmp_path / "a"), Line(tmp_path / "b")
    source = open_source(f"serial:{host.path},{device.path} rate=115200 delimiter=cr")
    host.write(b"ask\r")
    asked = taken(source, 1)
    device.write(b"answer\r")
    answered = taken(source, 1)
    assert (payloads(asked), payloads(answered)) == ([b"ask\r"], [b"answer\r"])
    assert [bool(int(f[0]) & Flag.TX) for f in (asked.flags, answered.flags)] == [True, False]
    assert int(asked.form[0]) != int(answered.form[0]) and len(source.buses) == 1
    start_recording(tmp_path / "r.keel", [source])
    assert load_manifest(tmp_path / "r.keel").notes == [ORDER] and "1 to 16 ms" in ORDER
    source.close()


def test_a_port_is_pulled_out_and_put_in_again(tmp_path: Path) -> None:
    line = Line(tmp_path / "ttyX")
    source = open_source(f"serial:{line.path} delimiter=lf")
    line.write(b"one\n")
    assert payloads(taken(source, 1)) == [b"one\n"]
    line.unplug()
    with pytest.raises(SourceGone, match="it was unplugged"):
        taken(source, 1)
    with pytest.raises(SourceGone, match="there is no such port"):
        source.reopen()
    line = Line(tmp_path / "ttyX")
    source.reopen()
    line.write(b"two\n")
    assert payloads(taken(source, 1)) == [b"two\n"]
    source.close()
    line.unplug()


def test_control_lines_can_be_worked_and_nothing_else() -> None:
    port = FakePort()
    source = SerialSource(["/dev/it"], Framing(), Split(), opened=opening(port))
    source.control("rts", "on")
    assert (port.rts, port.dtr, source.state()) == (True, False, {"dtr": "off", "rts": "on"})
    for name, value in (("horn", "on"), ("rts", "loud")):
        with pytest.raises(ControlError):
            source.control(name, value)
    source.close()
    assert port.closed


@pytest.mark.parametrize(
    ("error", "said"),
    [
        (FileNotFoundError(2, "No such file or directory"), "there is no such port"),
        (PermissionError(13, "Permission denied"), "you may not open it; become a member of the group"),
        (OSError(16, "Device or resource busy"), "another program uses it"),
        (OSError("[Errno 11] Could not exclusively lock port"), "another program uses it"),
        (OSError(5, "Input/output error"), "cannot be opened"),
    ],
)
def test_why_a_port_cannot_be_opened_is_said(error: OSError, said: str) -> None:
    assert said in why_not(error, "/dev/it")


@pytest.mark.parametrize(
    "words",
    [
        "", ":", ":/dev/a,/dev/b,/dev/c", ":/dev/nothing/there", ":/dev/null rate=0", ":/dev/null rate=9600.5",
        ":/dev/null bits=9", ":/dev/null parity=maybe", ":/dev/null stop=3", ":/dev/null gap=5", ":/dev/null gap=-5ms",
        ":/dev/null delimiter=", ":/dev/null length=0", ":/dev/null length=99999999", ":/dev/null host=maybe",
        ":/dev/null rate", ":/dev/null =5", ":/dev/null 'open", ":/dev/null rate=٣٠٠",
    ],
)  # fmt: skip
def test_odd_places_and_values_are_refused_in_a_sentence(words: str) -> None:
    with pytest.raises((InputError, SourceGone)) as caught:
        open_source(f"serial{words}")
    assert "\n" not in str(caught.value) and len(str(caught.value)) < 300


def test_how_messages_are_told_follows_from_what_is_said() -> None:
    for words, how in (("", "gap"), ("delimiter=lf", "delimiter"), ("length=4", "length"), ("gap=5ms", "gap")):
        port = FakePort(first=b"abcd\nefgh\n")
        said = given_source(f"serial:/dev/it {words}")
        from keel.sources.serial_port import _split_of, framing_of

        assert _split_of(said, framing_of(said)).how == how
        port.close()


# What is tried out: bytes as they come at right and wrong rates.

TEXT = b"".join(b"$GPGGA,%06d,5402.11,N,01033.80,E*47\r\n" % n for n in range(20))


def at_wrong_rate(data: bytes, sent: int, read: int) -> tuple[bytes, int]:
    """What a receiver at another rate makes of bytes sent 8N1: bytes, and how many came without a stop bit."""
    levels = [bit for byte in data for bit in (0, *(byte >> k & 1 for k in range(8)), 1)] + [1] * 20
    step, at, out, wrong = sent / read, 0.0, bytearray(), 0

    def level(place: float) -> int:
        return levels[min(int(place), len(levels) - 1)]

    while at < len(levels) - 12:
        if level(at):
            at = math.floor(at) + 1.0
            continue
        bits = [level(at + (k + 0.5) * step) for k in range(10)]
        out.append(sum(bit << k for k, bit in enumerate(bits[1:9])))
        wrong += not bits[9]
        at += 9.5 * step
        while at < len(levels) - 12 and not level(at):
            at += 1.0
    return bytes(out), wrong


def heard_at(sent: int, data: bytes, rates: list[int]) -> list[object]:
    looks = []
    for rate in rates:
        plain, wrong = (data, 0) if rate == sent else at_wrong_rate(data, sent, rate)
        looks.append(look_at(Framing(rate), plain, wrong, [one[0] for one in plain.split(b"\n")[1:] if one]))
    return list(looks)


@pytest.mark.parametrize("rate", [4800, 9600, 19_200, 115_200])
def test_text_is_found_at_its_rate(rate: int) -> None:
    rates = [9_600, 115_200, 19_200, 38_400, 57_600, 4_800]
    verdict = judged(heard_at(rate, TEXT, rates))  # type: ignore[arg-type]
    assert verdict.good and verdict.settings == {"rate": rate}
    assert verdict.words.startswith(f"good, {rate} bit/s 8N1: text, 100 % printable")


@pytest.mark.parametrize("parity", ["even", "odd"])
def test_text_of_seven_bits_is_told_by_its_parity(parity: str) -> None:
    sent = bytes(b | 0x80 if b.bit_count() % 2 != (parity == "odd") else b for b in TEXT)
    verdict = judged([look_at(Framing(9600), sent, 0, [])])
    assert verdict.settings == {"rate": 9600, "bits": 7, "parity": parity}


def test_binary_messages_are_named_with_doubt() -> None:
    chance = random.Random(1)
    data = b"".join(bytes([0x55, 0xAA, chance.randrange(256), chance.randrange(256)]) for _ in range(60))
    verdict = judged([look_at(Framing(9600), data, 0, [0x55] * 60), look_at(Framing(19200), data, 3, [0x55] * 50)])
    assert verdict.words.startswith("perhaps, 9600 bit/s") and "none of them text for sure" in verdict.words
    assert "nearly as good: 19200" in verdict.words and verdict.notes


def test_silence_and_noise_are_told_apart() -> None:
    assert judged([look_at(Framing(9600), b"", 0, [])]).words == "no traffic"
    chance = random.Random(2)
    noise = bytes(chance.randrange(256) for _ in range(300))
    verdict = judged([look_at(Framing(9600), noise, 120, list(noise[:30]))])
    assert verdict.words == "traffic, but nothing that looks like bytes at 9600 bit/s" and not verdict.good


@given(st.binary(max_size=200), st.integers(0, 200), st.lists(st.integers(0, 255), max_size=20))
@settings(max_examples=60)
def test_any_bytes_are_judged(data: bytes, faults: int, starts: list[int]) -> None:
    verdict = judged([look_at(Framing(9600), data, min(faults, len(data)), starts)])
    assert verdict.words and all(name in ("rate", "bits", "parity") for name in verdict.settings)


def test_a_port_is_tried_at_one_rate_after_another_and_the_search_ends_at_what_is_sure() -> None:
    asked: list[int] = []

    def opened(path: str, framing: Framing) -> Port:
        asked.append(framing.rate)
        data = TEXT if framing.rate == 19_200 else at_wrong_rate(TEXT, 19_200, framing.rate)[0]
        return FakePort(first=data[:600])

    verdict = try_serial(given_source("serial:/dev/it"), lambda: False, opened, 0.2)
    assert verdict.settings == {"rate": 19_200} and asked == [9_600, 115_200, 19_200]


def test_a_try_out_of_a_port_that_cannot_be_had_says_why() -> None:
    verdict = try_serial(Given("serial", "/dev/it"), lambda: False, opening(), 0.1)
    assert verdict.words == "there is no such port" and not verdict.good


def test_a_try_out_can_be_given_up() -> None:
    stops: Callable[[], bool] = lambda: True  # noqa: E731
    assert try_serial(Given("serial", "/dev/it"), stops, opening(FakePort()), 5.0).words == "no traffic"


def test_the_ports_of_the_machine_are_listed() -> None:
    assert all(offer.given.kind == "serial" and offer.given.where for offer in KINDS["serial"].there())
