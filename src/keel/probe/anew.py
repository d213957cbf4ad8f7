"""A line of a recording read again, as a person says: on trial for a part of it, or for good."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from keel.errors import InputError
from keel.lines.code import Asked
from keel.lines.codes import EVERY
from keel.model.span import Span
from keel.model.waveform import Analog, Channel, Logic
from keel.probe.candidates import Wanted
from keel.probe.channels import Probed, probed
from keel.probe.decoding import Decoded, decode_channels
from keel.probe.importing import made_channel
from keel.probe.measuring import facts
from keel.probe.stored import channels_of, frames_of, line_entry, made_for, placed
from keel.store.manifest import Manifest
from keel.store.recording import Snapshot
from keel.store.replacing import replace_frames
from keel.store.waveform_entries import LineEntry, WaveformEntry

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Anew:
    """How a line is to be read again.

    Attributes:
        bus: The line's bus, or a channel that nothing was read from yet.
        code: A code's word, or ``auto``.
        asked: What a person says of it; all else is found.
        roles: Channels and their roles, if they are others than before.
        made: Channels made of others, as ``name=formula``; the first of them is the line, if no roles are said.
        given: What of that a person set, by name.
    """

    bus: str
    code: str = "auto"
    asked: Asked = field(default_factory=Asked)
    roles: Mapping[str, str] = field(default_factory=dict)
    made: tuple[str, ...] = ()
    given: tuple[str, ...] = ()


def decode_anew(folder: Path, snapshot: Snapshot, how: Anew, progress: Progress = lambda *_: None) -> Decoded:
    """Read a line of a recording again; its frames are exchanged for those that come of it, all others stay.

    Args:
        folder: The recording.
        snapshot: What it is now.
        how: How it is to be read.
        progress: Told how many segments of how many are written.

    Returns:
        What was found; without a line nothing was exchanged.

    Raises:
        InputError: there is no such bus or channel.
        RecordingBusy: somebody writes to it.
        RecordingError: it cannot be written.
    """
    manifest = snapshot.manifest
    known = _known(snapshot, how.bus)
    used, wanted = _wanted(snapshot, how, known)
    done = decode_channels(used, [wanted], how.asked)
    if not done.lines:
        return done
    line = done.lines[0]
    number = known.bus if known is not None else len(manifest.buses)
    line.bus = how.bus
    fresh = frames_of([line], [number])
    highest = max(entry.number for entry in manifest.waveforms)
    names = {entry.name for entry in manifest.waveforms}
    of_made = [one for one in used if one.channel.formula and one.channel.name not in names]
    more = [_made_entry(highest + place, one, done) for place, one in enumerate(of_made, 1)]
    there = [entry for entry in manifest.waveforms if entry.kind != "levels"]
    more += made_for(folder, highest + len(more) + 1, line, [*there, *more])

    def change(draft: Manifest) -> None:
        draft.waveforms = placed(draft.waveforms, more, line)
        entry = line_entry(number, line, draft.waveforms, how.given)
        draft.lines = sorted([*(one for one in draft.lines if one.bus != number), entry], key=lambda one: one.bus)
        renewed = replace(line.guess.bus, name=how.bus)
        draft.buses = [*draft.buses[:number], renewed, *draft.buses[number + 1 :]]

    replace_frames(folder, {number}, fresh, change, progress)
    return done


def try_reading(snapshot: Snapshot, how: Anew, span: Span, most: int) -> tuple[Decoded, Span]:
    """What would come of reading a line so, of a part of it; nothing is exchanged.

    Args:
        snapshot: The recording.
        how: How it is to be read.
        span: The part, in ns.
        most: So many samples or edges of a channel are looked at; what is behind them is left out.

    Returns:
        What was found, and the part that was looked at.

    Raises:
        InputError: there is no such bus or channel, or what is said fits none.
    """
    used, wanted = _wanted(snapshot, how, _known(snapshot, how.bus), (span, most))
    ends = [one.channel.wave.end for one in used]
    return decode_channels(used, [wanted], how.asked), Span(span.start, max(min([span.end, *ends]), span.start))


def _known(snapshot: Snapshot, bus: str) -> LineEntry | None:
    """The line of a bus; None of a channel that nothing was read from."""
    manifest = snapshot.manifest
    known = next((line for line in manifest.lines if manifest.buses[line.bus].name == bus), None)
    names = [entry.name for entry in manifest.waveforms if entry.is_channel]
    if known is None and bus not in names:
        there = [manifest.buses[line.bus].name for line in manifest.lines] + names
        raise InputError("--bus", f"no line and no channel is called {bus}", ", ".join(dict.fromkeys(there)))
    return known


def _wanted(
    snapshot: Snapshot, how: Anew, known: LineEntry | None, part: tuple[Span, int] | None = None
) -> tuple[list[Probed], Wanted]:
    """The channels that a line is read from, and what is read of them."""
    code = how.code
    if code == "auto" and known is not None and how.asked != Asked():
        # Who sets something of a line that was read means the code that it was read in.
        code = known.code
    channels = channels_of(snapshot) if how.made else []
    for text in how.made:
        channels.append(made_channel(text, channels))
    fresh = channels[len(channels) - len(how.made) :]
    named = dict(how.roles or (known.channels if known is not None else {how.bus: "line"}))
    if known is not None and known.wires:
        named = {**known.channels, **named}
    if not how.roles and (code == "auto" or not set(named.values()) <= set(EVERY[code].roles)):
        # Roles of another code say nothing.
        named = {name: role if role in ("high", "low", "host", "device") else "line" for name, role in named.items()}
    if fresh and not how.roles:
        named = {fresh[0].name: "line"}
    used = [one for one in fresh if one.name in named]
    used += channels_of(snapshot, set(named) - {one.name for one in used})
    if part is not None:
        used = [part_of(one, *part) for one in used]
    wanted = Wanted(code, tuple(named), {} if set(named.values()) == {"line"} else named)
    return [probed(channel, how.asked) for channel in used], wanted


def part_of(channel: Channel, span: Span, most: int) -> Channel:
    """A part of a channel, and of that not more than so many samples or edges."""
    wave = channel.wave
    if isinstance(wave, Logic):
        low, high = wave.edges.searchsorted([span.start, span.end]).tolist()
        high = min(high, low + most)
        end = min(span.end, wave.end) if high - low < most else int(wave.edges[high - 1]) + 1
        begin = max(span.start, wave.start)
        unknown = tuple(one for one in wave.unknown if one[1] > begin and one[0] < end)
        first = wave.first ^ low & 1
        return replace(channel, wave=Logic(begin, max(end, begin), first, wave.edges[low:high], unknown, wave.grain))
    low = max(int((span.start - wave.start) / wave.step), 0)
    high = min(int((span.end - wave.start) / wave.step) + 1, len(wave), low + most)
    start = wave.start + round(low * wave.step)
    unknown = tuple(one for one in wave.unknown if one[1] > start)
    return replace(channel, wave=Analog(start, wave.step, wave.samples[low:high], wave.scale, unknown))


def _made_entry(number: int, one: Probed, done: Decoded) -> WaveformEntry:
    """A channel that was made for a line, as the recording keeps it: by its formula."""
    channel = one.channel
    line = next((line for line in done.lines if channel.name in line.of.roles), None)
    return WaveformEntry(
        number, channel.name, "made", channel.wave.start, channel.wave.end, formula=channel.formula,
        measured=facts(one, line),
    )  # fmt: skip
