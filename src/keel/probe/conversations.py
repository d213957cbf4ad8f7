"""Two serial lines as a conversation: who is who by name, and who speaks only when asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import permutations

import numpy as np

from keel.media.serial import HOST, TALKER
from keel.model.frames import Flag, FrameBatch, replace_columns
from keel.probe.lines import Line

HOST_NAMES, DEVICE_NAMES = ("host", "tx", "txd", "master"), ("device", "rx", "rxd", "slave")
FEWEST, NEARLY_ALL = 4, 0.95
"""Of so many messages so many have to follow for one to be said to answer the other."""


def from_host(frames: FrameBatch) -> FrameBatch:
    """Messages of the host: sent, and of a form of their own."""
    form = np.where(frames.form == TALKER.number, HOST.number, frames.form).astype(np.uint8)
    return replace_columns(frames, form=form, flags=frames.flags | np.uint16(Flag.TX))


def converse(lines: Sequence[Line]) -> None:
    """Find out who is who, and say who answers."""
    _with_roles(lines)
    for line in lines:
        if "host" in line.of.roles.values():
            line.guess = replace(line.guess, frames=from_host(line.guess.frames))
    _say_who_answers(lines)


def _with_roles(lines: Sequence[Line]) -> None:
    """Give roles to serial lines that nobody gave one, where names tell: one of a host and one of a device."""
    free = [line for line in lines if line.guess.code == "uart" and set(line.of.roles.values()) == {"line"}]
    hosts = [line for line in free if _last_word(line) in HOST_NAMES]
    devices = [line for line in free if _last_word(line) in DEVICE_NAMES]
    if len(hosts) == len(devices) == 1:
        (host,), (device,) = hosts, devices
        host.of = replace(host.of, roles=dict.fromkeys(host.of.roles, "host"))
        device.of = replace(device.of, roles=dict.fromkeys(device.of.roles, "device"))


def _last_word(line: Line) -> str:
    return line.of.name.lower().replace("_", " ").replace(".", " ").replace("-", " ").split()[-1]


def _say_who_answers(lines: Sequence[Line]) -> None:
    """Say of each serial line whose messages all follow one of another line that it does."""
    serial = [line for line in lines if line.guess.code == "uart" and len(line.guess.frames) >= FEWEST]
    for asks, answers in permutations(serial, 2):
        told = _after(asks.guess.frames, answers.guess.frames)
        if told is not None:
            share, median = told
            sentence = f"speaks only after {asks.bus}: {share:.0%} of its messages follow, {median / 1e6:.1f} ms later"
            answers.guess = replace(answers.guess, said=(*answers.guess.said, sentence))


def _after(asks: FrameBatch, answers: FrameBatch) -> tuple[float, float] | None:
    """The share of answers that follow a question soon, and how long after it; None if they do not."""
    assert asks.duration is not None
    ends = asks.time + asks.duration
    place = np.searchsorted(ends, answers.time, side="right") - 1
    known = place >= 0
    waits = answers.time - ends[np.maximum(place, 0)]
    # Each question has one answer at most, and what follows soon follows much sooner than the next question.
    first = np.concatenate([[True], np.diff(place) > 0])
    between = float(np.median(np.diff(asks.time))) if len(asks) > 1 else 0.0
    soon = known & first & (waits < between / 3)
    share = float(soon.mean())
    return (share, float(np.median(waits[soon]))) if share >= NEARLY_ALL else None
