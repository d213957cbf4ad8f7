"""Eight CAN FD buses at full load through the reader of CAN interfaces, over socket pairs, with the app watching.

The senders are paced by the clock and never wait: what they could not hand over they count. The recorder gets the other
ends of their sockets, and reads them as it reads raw CAN sockets.
"""

from __future__ import annotations

import json
import os
import resource
import socket
import struct
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from benchmarks.figures import Figure
from benchmarks.interface import Screen
from keel.sources.can_socket import SO_RCVBUFFORCE, SO_RXQ_OVFL, SO_TIMESTAMPNS, Messages, Raw, ask_for_news
from keel.sources.interfaces import Interface
from keel.sources.socketcan import SocketCan
from keel.store.recording import Recording

BUSES, A_SECOND = 8, 7_500
"""Frames a second on each bus: 64 bytes at 500 kbit/s and 5 Mbit/s fill it."""
SO_SNDBUFFORCE = 32
KNOWN = 20_000

SEND = """
import json, os, socket, sys, time
sys.path.insert(0, sys.argv[1])
from benchmarks.live import send
print(json.dumps(send([int(n) for n in sys.argv[3:]], float(sys.argv[2]))))
"""
RECORD = """
import sys
sys.path.insert(0, sys.argv[1])
from benchmarks.live import record_from
record_from(sys.argv[2], [int(n) for n in sys.argv[3:]])
"""


def frame(bus: int, number: int) -> bytes:
    """A CAN FD frame with 64 bytes, numbered."""
    ident = 0x100 + bus * 16 + number % 12
    payload = struct.pack("<IH", number, number * 7 % 65_536) + bytes(58)
    return struct.pack("=IBBBB64s", ident, 64, 1, 0, 0, payload)


def send(files: list[int], seconds: float) -> dict[str, int]:
    """Send on all sockets for some seconds, paced; how many were sent, and how many found no room."""
    import ctypes

    sendmmsg = ctypes.CDLL(None, use_errno=True).sendmmsg
    ready = [_prepared([frame(bus, n) for n in range(12)]) for bus in range(len(files))]
    sent, refused, begin = 0, 0, time.monotonic()
    given = [0] * len(files)
    while (now := time.monotonic() - begin) < seconds:
        due = int(now * A_SECOND)
        for bus, file in enumerate(files):
            while (count := min(due - given[bus], 12)) > 0:
                took = sendmmsg(file, ctypes.c_void_p(ready[bus].headers.ctypes.data), count, 0x40)
                sent += max(took, 0)
                refused += count - max(took, 0)
                given[bus] += count
        time.sleep(0.001)
    return {"sent": sent, "refused": refused}


def _prepared(frames: list[bytes]) -> Messages:
    messages = Messages(len(frames))
    for place, data in enumerate(frames):
        messages.data[place, : len(data)] = np.frombuffer(data, np.uint8)
    messages.headers["control"] = 0
    messages.headers["control_bytes"] = 0
    return messages


def record_from(path: str, files: list[int]) -> None:
    """Record from sockets, as from interfaces, until told to stop."""
    import signal

    from keel.sources.recorder import record, start_recording

    stop = {"asked": False}
    signal.signal(signal.SIGTERM, lambda *_: stop.update(asked=True))
    raw = iter([Raw(socket.socket(fileno=file)) for file in files])
    names = [f"can{bus}" for bus in range(len(files))]
    known = [Interface(name, True, 500_000, 5_000_000) for name in names]
    source = SocketCan(names, None, lambda *_: next(raw), lambda: known)
    start_recording(Path(path), [source])
    done = record(Path(path), [source], lambda: stop["asked"])
    used = resource.getrusage(resource.RUSAGE_SELF)
    said = {"frames": done.frames, "lost": done.lost.each, "cpu_s": used.ru_utime + used.ru_stime}
    Path(path).with_suffix(".json").write_text(json.dumps(said))


def eight_buses(folder: Path, seconds: float) -> list[Figure]:
    """Record them while the app watches and keys are pressed."""
    path = folder / "eight.keel"
    pairs = [socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM) for _ in range(BUSES)]
    for one, other in pairs:
        ask_for_news(one)
        other.setsockopt(socket.SOL_SOCKET, SO_SNDBUFFORCE, 16 << 20)
    here = str(Path(__file__).parent.parent)
    near = [one.fileno() for one, _ in pairs]
    far = [other.fileno() for _, other in pairs]
    recorder = subprocess.Popen([sys.executable, "-c", RECORD, here, str(path), *map(str, near)], pass_fds=near)
    while not (path / "recording.json").exists():
        time.sleep(0.05)
    sender = subprocess.Popen(
        [sys.executable, "-c", SEND, here, str(seconds), *map(str, far)], pass_fds=far, stdout=subprocess.PIPE
    )
    took: list[float] = []
    try:
        screen = Screen("open", str(path))
        screen.until(b"can3", 60)
        end = time.monotonic() + max(seconds - 6, 3)
        titles = ["name▲", "frames▼", "rate /s▼", "cycle ms▲", "std ms▼", "activity▼", "len▼"]
        titles += ["payload now, hex▲", "changes▼", "faults▼", "bus▲", "identifier▲"]
        while time.monotonic() < end:
            for title in titles:
                took.append(screen.press(b"s", title.encode()))
                time.sleep(0.21)
        sent = json.loads(sender.communicate()[0])
        time.sleep(1)
        screen.close()
    finally:
        sender.kill()
        recorder.terminate()
        recorder.wait()
    said = json.loads(path.with_suffix(".json").read_text())
    kept = Recording(path).snapshot().frames
    took.sort()
    middle, late = took[len(took) // 2], took[int(len(took) * 0.95)]
    mine, bare = per_frame()
    lost = sent["sent"] - kept
    return [
        Figure(
            f"{BUSES} CAN FD buses, the app watching, {seconds:.0f} s",
            f"{sent['sent'] / seconds:,.0f} frames/s",
            f"{sent['refused']} found no room at all",
            None,
            f"nothing lost: {lost} of {sent['sent']} lost, {sum(said['lost'].values())} counted",
        ),
        Figure(
            "  processor time a frame, read and written",
            f"{said['cpu_s'] / max(kept, 1) * 1e6:.2f} µs",
            f"one bare recvmsg {bare * 1e6:.2f} µs",
            said["cpu_s"] / max(kept, 1) / bare,
            "",
        ),
        Figure("  of it reading and decoding alone", f"{mine * 1e6:.2f} µs", f"{bare * 1e6:.2f} µs", mine / bare, ""),
        Figure(
            "  a key meanwhile", f"{middle * 1e3:.0f} ms, 95 %: {late * 1e3:.0f} ms", "one repaint at 60 Hz 17 ms",
            middle / 0.017, "50 ms, 95 %: 100 ms",
        ),
    ]  # fmt: skip


def per_frame() -> tuple[float, float]:
    """Processor time to read and decode a frame, and of one bare recvmsg with its time; both in seconds."""
    near, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    for option in (SO_TIMESTAMPNS, SO_RXQ_OVFL):
        near.setsockopt(socket.SOL_SOCKET, option, 1)
    near.setsockopt(socket.SOL_SOCKET, SO_RCVBUFFORCE, 64 << 20)
    far.setsockopt(socket.SOL_SOCKET, SO_SNDBUFFORCE, 64 << 20)
    source = SocketCan(["can0"], None, lambda *_: Raw(near), lambda: [Interface("can0", True, 500_000, 5_000_000)])
    best = [1.0, 1.0]
    for _ in range(5):
        for which in (0, 1):
            for number in range(KNOWN):
                far.send(frame(0, number))
            begin, read = time.process_time(), 0
            while read < KNOWN:
                if which == 0:
                    read += len(source.poll(0.0))
                else:
                    near.recvmsg(72, 128)
                    read += 1
            best[which] = min(best[which], (time.process_time() - begin) / KNOWN)
    source.close()
    far.close()
    return best[0], best[1]


if __name__ == "__main__":
    import tempfile

    with tempfile.TemporaryDirectory(prefix="keel-live-") as name:
        for figure in eight_buses(Path(name), float(os.environ.get("SECONDS_LONG", "60"))):
            print(figure.line())
