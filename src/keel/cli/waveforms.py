"""``keel decode`` and ``keel measure``: waveforms of lines."""

from __future__ import annotations

import json as json_module
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import FAILED, app, say
from keel.cli.line_options import (
    CODES_HELP,
    Codes,
    Gain,
    Hysteresis,
    Interval,
    Invert,
    Making,
    Offset,
    Rate,
    Roles,
    Setting,
    Threshold,
    Tolerance,
    Unit,
    asked_of,
    given_of,
    said_of,
    wanted_of,
)
from keel.cli.progress import Progress

if TYPE_CHECKING:
    from keel.probe.channels import Probed
    from keel.probe.decoding import Decoded

Files = Annotated[list[Path], typer.Argument(metavar="FILE...", help="VCD, WAV, or text with volts or levels.")]
Json = Annotated[bool, typer.Option("--json", help="JSON.")]


@app.command(
    epilog="Examples:  keel decode probe.vcd -o p.keel   keel decode volts.csv -o can.keel --as can --rate 500000   "
    "keel decode two.wav -o talk.keel --as uart --set parity=even   keel decode p.keel --bus tx --set parity=odd"
)
def decode(
    files: Annotated[
        list[Path], typer.Argument(metavar="FILE...|REC", help="VCD, WAV, text with volts or levels; or a recording.")
    ],
    output: Annotated[Path | None, typer.Option("-o", "--output", metavar="REC", help="The recording to make.")] = None,
    code: Annotated[list[str] | None, typer.Option("--as", metavar="CODE[:CHANNEL,...]", help=CODES_HELP)] = None,
    channel: Roles = None,
    rate: Rate = "",
    threshold: Threshold = None,
    hysteresis: Hysteresis = None,
    tolerance: Tolerance = "",
    invert: Invert = "",
    setting: Setting = None,
    make: Making = None,
    unit: Unit = None,
    gain: Gain = None,
    offset: Offset = None,
    interval: Interval = "",
    bus: Annotated[str, typer.Option(metavar="NAME", help="Of a recording: the line to read anew.")] = "",
    align: Annotated[
        str,
        typer.Option(
            metavar="auto|T",
            help="Add to a recording: by frames that both have, or the file's zero lies at T, as 12.5s.",
        ),
    ] = "",
    append: Annotated[
        bool,
        typer.Option("--append", help="Captures of one line, in sequence; behind what REC holds, if any."),
    ] = False,
    undo: Annotated[bool, typer.Option("--undo", help="Of a recording: take back what was read anew last.")] = False,
    json: Json = False,
) -> None:
    """Read waveforms in the codes of their lines, into a recording: what was not said is found, and said."""
    from keel.probe.stored import is_recording

    options = Codes(
        code, channel, rate, threshold, invert, setting, make, unit, gain, offset, interval, hysteresis, tolerance
    )
    if len(files) == 1 and is_recording(files[0]):
        if output is not None or bool(bus) == undo:
            raise typer.BadParameter("of a recording, --bus NAME says which line to read anew; or --undo")
        _undo(files[0]) if undo else _again(files[0], bus, options, json)
        return
    if bus or undo:
        raise typer.BadParameter("--bus and --undo are for recordings")
    if output is None:
        raise typer.BadParameter("-o REC says which recording to make")
    if append and align:
        raise typer.BadParameter("--append puts files behind each other, --align beside what is there: one of both")
    if append:
        _append(files, output, options, json)
    elif align:
        _add(files, output, align, options, json)
    else:
        _new(files, output, options, json)


def _add(files: list[Path], folder: Path, align: str, options: Codes, json: bool) -> None:
    from keel.cli.arguments import find_recording, time_ns
    from keel.model.safe_text import plain
    from keel.probe.adding import add_waveforms
    from keel.store.recording import Recording

    folder = find_recording(folder)
    zero = Recording(folder).snapshot().zero
    bar = Progress("reading")
    try:
        at = None if align == "auto" else zero + time_ns("--align", align)
        added = add_waveforms(files, folder, at, said_of(options), bar.at)
    finally:
        bar.end()
    _print(added.done, json)
    say(f"{plain(str(folder))}: {added.frames} frames added, {plain(added.said)}")


def _append(files: list[Path], output: Path, options: Codes, json: bool) -> None:
    from keel.model.safe_text import plain
    from keel.probe.appending import append_waveforms
    from keel.probe.importing import import_waveforms
    from keel.store.library import with_suffix

    folder, said = with_suffix(output), said_of(options)
    bar = Progress("reading")
    try:
        if not folder.exists():
            import_waveforms(files[:1], folder, said, bar.at)
            files = files[1:]
        if files:
            added = append_waveforms(files, folder, said, bar.at)
    finally:
        bar.end()
    if not files:
        say(f"{plain(str(folder))}: there is one capture; more follow it with --append")
        return
    _print(added.done, json)
    say(f"{plain(str(folder))}: {added.frames} frames, {plain(added.said)}; keel decode {folder} --undo takes it back")


def _new(files: list[Path], output: Path, options: Codes, json: bool) -> None:
    from keel.model.safe_text import plain
    from keel.probe.importing import import_waveforms
    from keel.store.library import with_suffix

    output = with_suffix(output)
    bar = Progress("reading")
    try:
        done, frames = import_waveforms(files, output, said_of(options), bar.at)
    finally:
        bar.end()
    _print(done, json)
    if not done.lines:
        say(f"keel: no code explains any of the channels; {plain(str(output))} keeps the waveforms")
    else:
        say(f"{plain(str(output))}: {frames} frames")


def _again(folder: Path, bus: str, options: Codes, json: bool) -> None:
    from keel.errors import InputError
    from keel.probe.anew import Anew, decode_anew
    from keel.store.recording import Recording

    wanted = wanted_of(options)
    if len(wanted) > 1 or wanted[0].channels:
        raise InputError("--as", "names channels", "one code, for the line that --bus names")
    snapshot = Recording(folder).snapshot()
    how = Anew(
        bus, wanted[0].code, asked_of(options), wanted[0].roles, tuple(options.make or ()), tuple(given_of(options))
    )
    done = decode_anew(folder, snapshot, how)
    _print(done, json)
    if not done.lines:
        say("keel: no code explains it: the frames stay as they were")
        raise typer.Exit(FAILED)
    say(f"{len(done.lines[0].guess.frames)} frames of {bus}; keel decode {folder} --undo takes it back")


def _undo(folder: Path) -> None:
    from keel.store.replacing import take_back

    take_back(folder)
    say("what was read anew last was exchanged for what stood before it; --undo again brings it back")


def _print(done: Decoded, json: bool) -> None:
    from keel.model.safe_text import plain
    from keel.probe.lines import told

    if json:
        print(json_module.dumps(done.to_json(), indent=1))
        return
    for one in done.channels:
        _print_channel(one, done.said.get(one.channel.name, []))
    for line in done.lines:
        for sentence in told(line):
            print(f"{plain(line.bus)}: {sentence}")


@app.command(epilog="Example:  keel measure probe.vcd")
def measure(
    files: Files,
    threshold: Threshold = None,
    hysteresis: Hysteresis = None,
    make: Making = None,
    unit: Unit = None,
    gain: Gain = None,
    offset: Offset = None,
    interval: Interval = "",
    json: Json = False,
) -> None:
    """Measure levels, polarity, bit time and rate of each channel, without reading what is said on it."""
    from keel.probe.channels import probed
    from keel.probe.importing import channels_in
    from keel.probe.measuring import measured

    bar = Progress("reading")
    try:
        options = Codes(
            threshold=threshold,
            hysteresis=hysteresis,
            make=make,
            unit=unit,
            gain=gain,
            offset=offset,
            interval=interval,
        )
        channels = channels_in(files, said_of(options), bar.at)
    finally:
        bar.end()
    found = measured([probed(channel, asked_of(options)) for channel in channels])
    if json:
        print(json_module.dumps({"channels": [one.to_json() for one in found]}, indent=1))
        return
    for one in found:
        _print_channel(one.channel, one.said)
        row, a_second = one.to_json(), one.unit
        if one.rate is not None:
            near = f", {row['nearest_rate']:,} {a_second} {row['deviation']:+.2%}" if row["nearest_rate"] else ""
            fast = f", data {one.fast_rate:,.0f} {a_second}" if one.fast_rate else ""
            what = {"bit/s": "a bit", "Hz": "a period", "ticks/s": "a tick"}[a_second]
            print(f"    {what} takes {row['bit_time_ns']:,.0f} ns: {one.rate:,.0f} {a_second}{near}{fast}")


def _print_channel(one: Probed, more: Sequence[str]) -> None:
    row = one.to_json()
    levels = ""
    if row["threshold"] is not None:
        levels = f", {row['low']:.3g} V to {row['high']:.3g} V, cut at {row['threshold']:.3g} V"
    rests = "high" if row["idle"] else "low"
    print(f"{row['channel']}: {row['kind']}{levels}, rests {rests}, {row['edges']} edges")
    for sentence in (*row["said"], *more):
        print(f"    {sentence}")
