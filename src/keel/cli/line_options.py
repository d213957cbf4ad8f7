"""What can be said of a line on the command line: code, roles, rates, threshold, polarity, settings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated

import typer

if TYPE_CHECKING:
    from keel.formats.wave_taken import Taken
    from keel.lines.code import Asked
    from keel.probe.candidates import Wanted
    from keel.probe.importing import Said

CODES_HELP = (
    "auto, can, canfd, uart, kline, lin, sent, spi, i2c, card, manchester, bursts; may repeat, each with its channels."
)
Roles = Annotated[
    list[str] | None,
    typer.Option(
        "--channel",
        metavar="CHANNEL=ROLE",
        help="Which is what: line, high, low, host, device, clock, select, out, in, data, command.",
    ),
]
Rate = Annotated[str, typer.Option(metavar="N[,N]", help="Bit/s, and that of the data phase; left out: found.")]
Threshold = Annotated[float | None, typer.Option(metavar="V", help="Where low and high part; left out: found.")]
Hysteresis = Annotated[
    float | None,
    typer.Option(metavar="V", help="How far about the threshold nothing counts, in all; left out: by the noise."),
]
Tolerance = Annotated[
    str, typer.Option(metavar="P%", help="How far the bits may be off --rate and still set it; left out: --rate holds.")
]
Invert = Annotated[str, typer.Option(metavar="yes|no", help="Whether it rests low; left out: found.")]
Setting = Annotated[list[str] | None, typer.Option("--set", metavar="KEY=VALUE", help="A setting of the code.")]
Making = Annotated[
    list[str] | None,
    typer.Option(
        "--make", metavar="NAME=FORMULA",
        help="A channel made of others: difference(A,B), inverted(A), lowpass(A,10us), threshold(A,2.5V).",
    ),
]  # fmt: skip


Unit = Annotated[
    list[str] | None,
    typer.Option("--unit", metavar="[CHANNEL=]UNIT", help="Of times (ms) or volts (mV) in a text; left out: by title."),
]
Gain = Annotated[
    list[str] | None, typer.Option("--gain", metavar="[CHANNEL=]N", help="Volts are the file's times that, as 10.")
]
Offset = Annotated[
    list[str] | None, typer.Option("--offset", metavar="[CHANNEL=]V", help="Volts that are added, behind the gain.")
]
Interval = Annotated[
    str, typer.Option("--interval", metavar="T", help="From sample to sample, of a text without times, as 10us.")
]


@dataclass(frozen=True)
class Codes:
    """What was said, as it was written."""

    code: list[str] | None = None
    channel: list[str] | None = None
    rate: str = ""
    threshold: float | None = None
    invert: str = ""
    setting: list[str] | None = None
    make: list[str] | None = None
    unit: list[str] | None = None
    gain: list[str] | None = None
    offset: list[str] | None = None
    interval: str = ""
    hysteresis: float | None = None
    tolerance: str = ""


def said_of(said: Codes) -> Said:
    """What was said, taken apart."""
    from keel.probe.importing import Said

    taken = taken_of(said)
    given = (*given_of(said), *taken.given)
    return Said(tuple(wanted_of(said)), asked_of(said), tuple(said.make or ()), given, taken)


def taken_of(said: Codes) -> Taken:
    """What was said of the numbers in the files."""
    from keel.formats.wave_taken import parse_taken

    return parse_taken(said.unit or (), said.gain or (), said.offset or (), said.interval)


def given_of(said: Codes) -> list[str]:
    """What a person set, in words."""
    named = {
        "code": any(not text.lower().startswith("auto") for text in said.code or ()),
        "channels": bool(said.channel), "rate": bool(said.rate), "threshold": said.threshold is not None,
        "hysteresis": said.hysteresis is not None, "tolerance": bool(said.tolerance), "polarity": bool(said.invert),
    }  # fmt: skip
    return [name for name, is_set in named.items() if is_set] + [s.partition("=")[0] for s in said.setting or ()]


def wanted_of(said: Codes) -> list[Wanted]:
    """The codes to read, each with the channels it is in, and their roles."""
    from keel.errors import InputError
    from keel.lines.codes import EVERY
    from keel.probe.candidates import Wanted

    roles = {}
    for text in said.channel or ():
        name, equals, role = text.rpartition("=")
        if not equals:
            raise InputError("--channel", f"“{text}” names no role", "CHANNEL=ROLE, as 1=line")
        roles[name] = role.lower()
    found = []
    for text in said.code or ["auto"]:
        word, _, names = text.partition(":")
        if word.lower() not in (*EVERY, "auto"):
            raise InputError("--as", f"no code is called {word}", ", ".join(("auto", *EVERY)))
        found.append(Wanted(word.lower(), tuple(name for name in names.split(",") if name), roles))
    return found


def asked_of(said: Codes) -> Asked:
    """What was said of rates, polarity and settings."""
    from keel.errors import InputError
    from keel.lines.code import Asked

    rates: list[float] = []
    for text in said.rate.split(",") if said.rate else ():
        try:
            rates.append(float(text))
        except ValueError:
            rates.append(0.0)
        if not 1 <= rates[-1] <= 1e10:
            raise InputError("--rate", f"“{text}” is no rate", "bit/s, as 500000, or 500000,2000000")
    if said.invert not in ("", "yes", "no"):
        raise InputError("--invert", said.invert, "yes or no")
    settings = {}
    for text in said.setting or ():
        name, equals, value = text.partition("=")
        if not equals:
            raise InputError("--set", f"“{text}” is no setting", "KEY=VALUE, as parity=even")
        settings[name.strip().lower()] = value.strip()
    inverted = {"yes": True, "no": False}.get(said.invert)
    slow, fast = (*rates, None, None)[:2]
    tolerance = _share("--tolerance", said.tolerance) if said.tolerance else None
    return Asked(slow, fast, inverted, settings, said.threshold, said.hysteresis, tolerance)


def _share(option: str, text: str) -> float:
    """A share, written in per cent."""
    from keel.errors import InputError

    try:
        number = float(text.strip().removesuffix("%")) / 100
    except ValueError:
        number = -1.0
    if not 0 < number < 1:
        raise InputError(option, f"“{text}” is no share", "per cent of the rate, as 2%")
    return number
