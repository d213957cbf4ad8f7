"""The anatomy of the frame in hand: what its header says, its bits, its signals, what went wrong with it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from textwrap import wrap

import numpy as np
import numpy.typing as npt

from keel.app.desk.picture import Picture
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.hex_rows import hex_rows
from keel.app.paint.palette import Palette
from keel.app.paint.ribbon import ROLE_COLOURS, bytes_that_fit, ribbon
from keel.app.paint.strokes import spark
from keel.app.views.frames.header import header_bits, header_pairs, pair_lines
from keel.app.views.frames.row import time_decimals
from keel.media.every import fault_sentence, form_of, medium_for
from keel.model.bus import wire_ns
from keel.model.faults import Fault
from keel.model.frames import Bytes, FrameBatch, Times
from keel.model.identity import NO_IDENT
from keel.model.safe_text import plain
from keel.signals.dictionary import GLYPHS, Message

BITS_UP_TO = 8
"""Longer payloads of which no field is known are shown in hex, not in bits."""
RECENT_LINES = 4
"""So many lines stay for how it went lately."""


@dataclass(frozen=True)
class Subject:
    """A frame in hand, the payload of its identifier before it (or None), the latest of its identifier, its note."""

    number: int
    frame: FrameBatch
    before: bytes | None
    recent_times: Times
    recent_payloads: Bytes
    note: str = ""


def anatomy(
    palette: Palette, width: int, height: int, subject: Subject, picture: Picture, shift: int = 0
) -> list[Line]:
    """The lines of the panel; of a long payload those from byte ``shift`` on."""
    lines: list[Line] = []
    frame = subject.frame
    key = int(frame.keys()[0])
    payload = frame.payload(0)
    message = picture.messages.get(key)

    def say(text: str, role: str = "text", bold: bool = False, at: int = 0) -> None:
        line = Line(width, palette.style("text"))
        line.put(at, text, palette.style(role, bold=bold))
        lines.append(line)

    head = Line(width, palette.style("text"))
    at = head.put(0, "anatomy ", palette.style("sea", bold=True))
    head.put(at, f"frame {words.count(subject.number + 1)}", palette.style("strong", bold=True))
    lines += [head, Line(width, palette.style("text"))]
    for said in _header_words(frame, picture):
        for text in wrap(said, max(width - 1, 20), subsequent_indent="  "):
            say(text)
    utc = " UTC" if picture.snapshot.manifest.is_dated else ""
    digits = time_decimals(picture.snapshot.manifest.lines)
    say(f"{words.of_day(int(frame.time[0]), digits)}{utc}{_length_words(frame, picture)}", "dim")
    if subject.note:
        for text in wrap(f"✎ {plain(subject.note, 400)}", max(width - 1, 20), subsequent_indent="  "):
            say(text, "brass")
    bus = picture.snapshot.manifest.buses[int(frame.bus[0])]
    medium = medium_for(bus, int(frame.form[0]))
    lines += header_bits(palette, width, medium.header(frame))
    lines += pair_lines(palette, width, header_pairs(medium, frame))
    faults = [fault for fault in Fault if int(frame.faults[0]) & fault]
    for fault in faults:
        for text in wrap(f"✕ {fault_sentence(medium, fault)}", max(width - 1, 20), subsequent_indent="  "):
            say(text, "coral")
    lines.append(Line(width, palette.style("text")))
    lines += _said(palette, width, medium.parts(frame))
    fresh = bytes(a ^ b for a, b in zip(payload, subject.before, strict=False)) if subject.before else b""
    step = bytes_that_fit(width)
    if message is None and len(payload) > BITS_UP_TO:
        lines += hex_rows(palette, width, payload, fresh, shift, max(height - len(lines) - RECENT_LINES, 4))
    else:
        for first in range(0, len(payload), step):
            if len(lines) + 4 > height - (4 if message else 0) and first:
                say(f"… and {len(payload) - first} bytes more", "dim")
                break
            lines += ribbon(palette, width, payload, message, fresh, first)
    if not payload:
        say("no payload", "dim")
    lines.append(Line(width, palette.style("text")))
    for signal in message.present(payload) if message else []:
        if len(lines) + 1 > height - 1:
            say("…", "dim")
            break
        line = Line(width, palette.style("text"))
        name_width = min(max((len(s.name) for s in message.signals), default=4), 18) if message else 4
        line.put(0, GLYPHS[signal.role], palette.style(ROLE_COLOURS[signal.role]))
        line.put(2, signal.name, palette.style(ROLE_COLOURS[signal.role]), name_width)
        taken, how, value = signal.steps(payload)
        at = 4 + name_width
        if at + len(taken) > width:
            # The order that is left out is the usual one.
            taken = taken.replace(" little", "")
        if at + len(taken) + len(how) + len(value) > width and how:
            # The bits and the raw value above, what comes of them below.
            line.put(at, taken, palette.style("dim"))
            lines.append(line)
            line, taken, how = Line(width, palette.style("text")), "", how.removeprefix("; ").lstrip()
        how = taken + how
        at = line.put(at, how, palette.style("dim"))
        line.put(at, value, palette.style("strong", bold=True))
        lines.append(line)
    if len(subject.recent_times) > 2 and len(lines) + 4 < height:
        lines.append(Line(width, palette.style("text")))
        lines += _recent(palette, width, height - len(lines) - 1, subject, message)
    return lines


def _said(palette: Palette, width: int, parts: Sequence[tuple[str, str]]) -> list[Line]:
    """What a frame says, piece by piece."""
    lines = []
    for name, text in parts:
        for place, piece in enumerate(wrap(plain(text, 400), max(width - 13, 20)) or [""]):
            line = Line(width, palette.style("text"))
            line.put(0, name if place == 0 else "", palette.style("dim"), 12)
            line.put(13, piece, palette.style("sea"))
            lines.append(line)
    return [*lines, Line(width, palette.style("text"))] if lines else []


def _recent(palette: Palette, width: int, room: int, subject: Subject, message: Message | None) -> list[Line]:
    """How the values and the cycle time went lately."""
    count = min(len(subject.recent_times), width - 22)
    times, payloads = subject.recent_times[-count:], subject.recent_payloads[-count:]
    head = Line(width, palette.style("text"))
    head.put(0, f"the last {count} of this identifier", palette.style("dim"))
    lines = [head]

    def draw(name: str, values: npt.NDArray[np.float64], role: str) -> None:
        line = Line(width, palette.style("text"))
        line.put(0, name, palette.style("dim"), 18)
        low, high = float(values.min()), float(values.max())
        # A flat line in the middle says that nothing moved; else the least is an eighth high.
        shown = values - low + (high - low) / 7 if high > low else np.full(len(values), 0.5)
        line.put(19, spark(shown, float(shown.max()) if high > low else 1.0), palette.style(role))
        lines.append(line)

    present = message.present(subject.frame.payload(0)) if message else []
    for signal in present:
        if signal.role in ("value", "flag") and not signal.pages and len(lines) < room - 1:
            draw(signal.name, signal.values(payloads), ROLE_COLOURS[signal.role])
    draw("cycle time", np.diff(times).astype(np.float64), "slate")
    return lines


def _length_words(frame: FrameBatch, picture: Picture) -> str:
    """How long the frame took on the line, as far as that is known."""
    bits = int(frame.bits[0]) + int(frame.fast_bits[0])
    if bits:
        length = int(wire_ns(frame.bus, frame.bits, frame.fast_bits, picture.snapshot.manifest.buses)[0])
        return f" · {words.length(length)}, {bits} bits"
    measured = int(frame.duration[0]) if frame.duration is not None else 0
    return f" · {words.length(measured)}" if measured else ""


def _header_words(frame: FrameBatch, picture: Picture) -> tuple[str, str]:
    bus = picture.snapshot.manifest.buses[int(frame.bus[0])]
    number = int(frame.form[0])
    medium, form = medium_for(bus, number), form_of(number)
    ident = "" if number == NO_IDENT else f" {form.write(int(frame.ident[0]))}"
    parts = (form.title + ident, form.role, medium.size(frame))
    return f"bus {bus.name} · {medium.kind(frame) or medium.title}", " · ".join(part for part in parts if part)
