"""Streams from a pipe, a named pipe and a tunnel: captures of all kinds of line, text, bytes; cut, slow, hostile."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from pathlib import Path

import pytest

from keel.errors import InputError
from keel.model.frames import FrameBatch, concat
from keel.sources.pipe import read_as
from keel.sources.registry import given_source, open_source
from keel.sources.source import Source
from keel.sources.stream import StreamSource
from keel.sources.tcp import TcpSource
from keel.store.recording import Recording
from tests.captures import Packet, air, pcap, pcapng, plugged_in
from tests.sources.plugging import Line, standing_in

PATIENCE_S = 60.0


def all_of(source: Source) -> FrameBatch:
    found = []
    end = time.monotonic() + PATIENCE_S
    while not source.ended and time.monotonic() < end:
        found.append(source.poll(0.02))
    return concat([batch for batch in found if len(batch)])


def piped(content: bytes, words: str = "pipe") -> tuple[FrameBatch, StreamSource]:
    """What comes of bytes through standard input."""
    reading, writing = os.pipe()

    def write() -> None:
        with os.fdopen(writing, "wb") as file:
            file.write(content)

    thread = threading.Thread(target=write)
    thread.start()
    source = StreamSource(reading, read_as=read_as(given_source(words)))
    frames = all_of(source)
    thread.join()
    os.close(reading)
    return frames, source


@pytest.mark.parametrize(("link", "packets"), [(256, list(air(3))), (220, list(plugged_in(1)))])
def test_captures_of_other_lines_come_through_a_pipe(link: int, packets: Sequence[Packet]) -> None:
    for content in (pcap(link, packets), pcapng([(link, "it")], packets)):
        frames, source = piped(content)
        assert len(frames) == len(packets) and frames.header is not None
        assert source.buses[0].medium == {256: "ble", 220: "usb"}[link]


def test_text_of_a_serial_line_comes_through_a_pipe() -> None:
    frames, source = piped(
        b"[2026-01-01 10:17:12.345] $DPT,4.30\n[2026-01-01 10:17:13.345] $DPT,4.31\n", "pipe as=serial"
    )
    assert [frames.payload(i) for i in range(2)] == [b"$DPT,4.30", b"$DPT,4.31"]
    assert source.buses[0].medium == "serial"


def test_bytes_of_a_serial_line_are_stamped_as_they_come() -> None:
    before = time.time_ns()
    frames, _ = piped(b"$DPT,4.30\n$DPT,4.31\nrest", "pipe as=bytes")
    assert [frames.payload(i) for i in range(3)] == [b"$DPT,4.30\n", b"$DPT,4.31\n", b"rest"]
    assert all(before <= t <= time.time_ns() for t in frames.time.tolist())


def test_a_named_pipe_is_waited_for(tmp_path: Path) -> None:
    path = tmp_path / "feed"
    os.mkfifo(path)
    source = open_source(f"pipe:{path}")
    assert len(source.poll(0.05)) == 0 and not source.ended

    def write() -> None:
        path.write_bytes(b"(1767262632.5) can0 1A0#0102\n" * 3)

    threading.Thread(target=write, daemon=True).start()
    frames = all_of(source)
    source.close()
    assert len(frames) == 3 and source.ended


@pytest.mark.parametrize("make", [lambda path: None, lambda path: path.write_text("x")])
def test_what_is_no_named_pipe_is_refused(tmp_path: Path, make: object) -> None:
    make(tmp_path / "x")  # type: ignore[operator]
    with pytest.raises(InputError):
        open_source(f"pipe:{tmp_path / 'x'}")


def connected(source: TcpSource) -> socket.socket:
    sender = socket.create_connection(("127.0.0.1", source.port))
    assert len(source.poll(1.0)) == 0
    return sender


def test_a_stream_comes_in_at_a_port_of_this_machine() -> None:
    source = TcpSource(0)
    port = source.port
    sender = connected(source)
    with pytest.raises(OSError):
        # One sender alone: nobody else is heard.
        socket.create_connection(("127.0.0.1", port), timeout=5)
    content = pcapng([(256, "air")], list(air(2)))
    for at in range(0, len(content), 777):
        sender.sendall(content[at : at + 777])
        source.poll(0.0)
    sender.close()
    all_of(source)
    assert source.ended and source.account.frames == len(list(air(2)))
    source.close()


def test_only_this_machine_may_connect() -> None:
    source = TcpSource(0)
    assert source._listener.getsockname()[0] == "127.0.0.1"
    source.close()


def test_a_connection_that_breaks_off_keeps_what_came() -> None:
    source = TcpSource(0)
    sender = connected(source)
    sender.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, bytes([1, 0, 0, 0, 0, 0, 0, 0]))
    sender.sendall(b"(1767262632.5) can0 1A0#0102\n(1767262632.6) can0 1A")
    assert len(source.poll(1.0)) == 1
    sender.close()
    all_of(source)
    assert source.ended and any("broke" in sentence for sentence in source.said())
    source.close()


@pytest.mark.parametrize("where", ["", ":", ":0", ":99999", ":http", ":-1", ":127.0.0.1"])
def test_odd_ports_are_refused(where: str) -> None:
    with pytest.raises(InputError):
        open_source(f"tcp{where}")


def test_a_port_that_is_taken_is_refused() -> None:
    first = TcpSource(0)
    with pytest.raises(InputError, match="cannot be listened at"):
        open_source(f"tcp:{first.port}")
    first.close()


# Recorders that are killed.


def kept_after_kill(folder: Path, words: str, feed: object = None) -> int:
    """Record for a while, kill, and count what is whole."""
    recorder = subprocess.Popen(
        [sys.executable, "-m", "keel", "record", str(folder), "--from", words],
        stdin=subprocess.PIPE, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    end = time.monotonic() + PATIENCE_S
    try:
        while time.monotonic() < end:
            if feed is not None:
                feed(recorder)  # type: ignore[operator]
            if (folder / "recording.json").exists() and Recording(folder).snapshot().frames > 20:
                break
            time.sleep(0.02)
    finally:
        recorder.send_signal(signal.SIGKILL)
        recorder.wait()
        assert recorder.stdin is not None
        recorder.stdin.close()
    snapshot = Recording(folder).snapshot()
    assert not snapshot.live and not snapshot.problems
    return snapshot.frames


def test_what_an_adapter_gave_stays_when_its_recorder_is_killed(tmp_path: Path) -> None:
    with standing_in(tmp_path / "port"):
        assert kept_after_kill(tmp_path / "r.keel", f"adapter:{tmp_path / 'port'} rate=250000") > 20


def test_what_a_pipe_gave_stays_when_its_recorder_is_killed(tmp_path: Path) -> None:
    def feed(recorder: subprocess.Popen[bytes]) -> None:
        assert recorder.stdin is not None
        recorder.stdin.write(b"(1767262632.5) can0 1A0#0102\n" * 5)
        recorder.stdin.flush()

    assert kept_after_kill(tmp_path / "r.keel", "pipe", feed) > 20


def test_what_a_serial_line_gave_stays_when_its_recorder_is_killed(tmp_path: Path) -> None:
    line = Line(tmp_path / "tty")
    words = f"serial:{line.path} delimiter=lf"
    assert kept_after_kill(tmp_path / "r.keel", words, lambda _: line.write(b"a\n" * 3)) > 20
    line.unplug()
