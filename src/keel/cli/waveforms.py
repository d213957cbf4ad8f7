"""``keel decode`` and ``keel measure``: waveforms of lines."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from keel.cli import FAILED, app, say

if TYPE_CHECKING:
    from keel.formats.probed import Probed, Wanted
    from keel.model.waveform import Channel

_WHAT = "VCD, WAV, or text with volts or levels."
Files = Annotated[list[Path], typer.Argument(metavar="FILE...", help=_WHAT)]


@app.command(
    epilog="Examples:  keel decode probe.vcd -o p.keel   keel decode volts.csv -o can.keel --as can --rate 500000   "
    "keel decode two.wav -o talk.keel --as uart --set parity=even"
)
def decode(
    files: Files,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="REC", help="The recording to make.")],
    code: Annotated[
        list[str] | None, typer.Option("--as", metavar="CODE[:CHANNEL,...]", help="auto, can, canfd, uart; may repeat.")
    ] = None,
    channel: Annotated[
        list[str] | None,
        typer.Option(metavar="CHANNEL=ROLE", help="Which channel is what: line, high, low, host, device."),
    ] = None,
    rate: Annotated[
        str, typer.Option(metavar="N[,N]", help="Bit/s, and that of the data phase; left out: found.")
    ] = "",
    threshold: Annotated[
        float | None, typer.Option(metavar="V", help="Where low and high part; left out: found.")
    ] = None,
    invert: Annotated[str, typer.Option(metavar="yes|no", help="Whether it rests low; left out: found.")] = "",
    setting: Annotated[
        list[str] | None, typer.Option("--set", metavar="KEY=VALUE", help="A setting of the code.")
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Read waveforms in the codes of their lines, into a new recording: what was not said is found, and said."""
    from keel.errors import RecordingError
    from keel.formats.probed import decode_channels, record, told
    from keel.model.safe_text import plain
    from keel.store.library import with_suffix

    output = with_suffix(output)
    if output.exists():
        raise RecordingError(str(output), "there is something of this name already")
    done = decode_channels(
        _channels(files, code or [], channel or []), _wanted(code, channel), _asked(rate, invert, setting), threshold
    )
    frames = record(done, output, f"waveforms of {', '.join(plain(file.name) for file in files)}") if done.lines else 0
    if json:
        print(json_module.dumps(done.to_json(), indent=1))
    else:
        for one in done.channels:
            _print_channel(one, done.said.get(one.channel.name, []))
        for line in done.lines:
            for sentence in told(line):
                print(f"{plain(line.bus)}: {sentence}")
    if not done.lines:
        say("keel: no code explains any of the channels: nothing was recorded")
        raise typer.Exit(FAILED)
    say(f"{plain(str(output))}: {frames} frames")


@app.command(epilog="Example:  keel measure probe.vcd")
def measure(
    files: Files,
    threshold: Annotated[
        float | None, typer.Option(metavar="V", help="Where low and high part; left out: found.")
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Measure levels, polarity, bit time and rate of each channel, without reading what is said on it."""
    from keel.formats.probed import measured, probed

    found = [(one, measured(one)) for one in (probed(c, threshold) for c in _channels(files, [], []))]
    if json:
        print(json_module.dumps({"channels": [row for _, row in found]}, indent=1))
        return
    for one, row in found:
        _print_channel(one, [])
        if row["rate"] is not None:
            near = f", {row['nearest_rate']:,} bit/s {row['deviation']:+.2%}" if row["nearest_rate"] else ""
            fast = f", data {row['fast_rate']:,.0f} bit/s" if row["fast_rate"] else ""
            print(f"    a bit takes {row['bit_time_ns']:,.0f} ns: {row['rate']:,.0f} bit/s{near}{fast}")


def _channels(files: list[Path], codes: list[str], roles: list[str]) -> list[Channel]:
    """The channels of all files; those of several files are told apart by the file's name where they share theirs."""
    from dataclasses import replace

    from keel.formats.waveforms import read_waveforms
    from keel.model.safe_text import plain

    named = [name for text in codes for name in text.partition(":")[2].split(",")]
    bits = tuple(name for name in (*named, *(text.partition("=")[0] for text in roles)) if name.endswith("]"))
    found: list[Channel] = []
    for path in files:
        for one in read_waveforms(path, bits)[1]:
            name = plain(one.name)
            if any(name == other.name for other in found):
                name = f"{plain(path.stem)} {name}"
            found.append(replace(one, name=name, number=len(found) + 1))
    return found


def _wanted(codes: list[str] | None, channels: list[str] | None) -> list[Wanted]:
    from keel.errors import InputError
    from keel.formats.probed import Wanted
    from keel.lines.codes import CODES

    roles = {}
    for text in channels or ():
        name, equals, role = text.rpartition("=")
        if not equals:
            raise InputError("--channel", f"“{text}” names no role", "CHANNEL=ROLE, as 1=line")
        roles[name] = role.lower()
    found = []
    for text in codes or ["auto"]:
        word, _, names = text.partition(":")
        if word.lower() not in (*CODES, "auto"):
            raise InputError("--as", f"no code is called {word}", ", ".join(("auto", *CODES)))
        found.append(Wanted(word.lower(), tuple(name for name in names.split(",") if name), roles))
    return found


def _asked(rate: str, invert: str, settings: list[str] | None) -> Any:
    from keel.errors import InputError
    from keel.lines.code import Asked

    rates: list[float] = []
    for text in rate.split(",") if rate else ():
        try:
            rates.append(float(text))
        except ValueError:
            rates.append(0.0)
        if not 1 <= rates[-1] <= 1e10:
            raise InputError("--rate", f"“{text}” is no rate", "bit/s, as 500000, or 500000,2000000")
    if invert not in ("", "yes", "no"):
        raise InputError("--invert", invert, "yes or no")
    said = {}
    for text in settings or ():
        name, equals, value = text.partition("=")
        if not equals:
            raise InputError("--set", f"“{text}” is no setting", "KEY=VALUE, as parity=even")
        said[name.strip().lower()] = value.strip()
    inverted = {"yes": True, "no": False}.get(invert)
    return Asked(rates[0] if rates else None, rates[1] if len(rates) > 1 else None, inverted, said)


def _print_channel(one: Probed, more: list[str]) -> None:
    row = one.to_json()
    levels = ""
    if row["threshold"] is not None:
        levels = f", {row['low']:.3g} V to {row['high']:.3g} V, cut at {row['threshold']:.3g} V"
    rests = "high" if row["idle"] else "low"
    print(f"{row['channel']}: {row['kind']}{levels}, rests {rests}, {row['edges']} edges")
    for sentence in (*row["said"], *more):
        print(f"    {sentence}")
