"""How a person wants a line read: each thing that can be said of it as it was typed, and what that means."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from keel.errors import InputError
from keel.model.units import length_ns

if TYPE_CHECKING:
    from keel.probe.anew import Anew
    from keel.store.waveform_entries import LineEntry

TIMES = {"k": 1e3, "m": 1e6, "": 1.0}
_RATE = re.compile(r"([\d.,_]+)\s*([km]?)(bit/s|bd|hz)?$", re.I)
MOST_RATE = 1e10


@dataclass(frozen=True)
class Trial:
    """What was said of a line; what is empty is found.

    Attributes:
        bus: The line's bus, or a channel that nothing was read from.
        code: A code's word, or ``auto``.
        rate: A rate or the length of a bit, and that of the data phase behind a blank: ``500k 2M``, ``2us``.
        tolerance: In per cent of the rate.
        inverted: ``yes``, ``no`` or nothing.
        threshold, hysteresis: In volts.
        roles: As ``CANH=high CANL=low``.
        made: A channel made of others, as ``smooth=lowpass(tx, 10us)``.
        settings: Of the code, by name.
        row: Which of all that is in hand.
    """

    bus: str
    code: str = "auto"
    rate: str = ""
    tolerance: str = ""
    inverted: str = ""
    threshold: str = ""
    hysteresis: str = ""
    roles: str = ""
    made: str = ""
    settings: tuple[tuple[str, str], ...] = ()
    row: int = 0

    def with_value(self, name: str, value: str) -> Trial:
        """With something said otherwise; what is empty is found again."""
        if not hasattr(self, name):
            kept = tuple(one for one in self.settings if one[0] != name)
            return replace(self, settings=(*kept, (name, value)) if value else kept)
        if name == "code":
            # What was set of one code means nothing to another.
            return replace(self, code=value or "auto", settings=())
        return replace(self, **{name: value})  # type: ignore[arg-type]

    def value(self, name: str) -> str:
        """What was said of something."""
        return str(getattr(self, name)) if hasattr(self, name) else dict(self.settings).get(name, "")

    @property
    def is_empty(self) -> bool:
        """Whether nothing was said."""
        return replace(self, row=0) == Trial(self.bus)

    def anew(self) -> Anew:
        """What it means.

        Raises:
            InputError: something is not to be understood.
        """
        from keel.lines.code import Asked
        from keel.probe.anew import Anew

        slow, fast = rates_of(self.rate)
        share = _number("tolerance", self.tolerance.removesuffix("%"), "per cent, as 2%")
        asked = Asked(
            slow,
            fast,
            {"yes": True, "no": False}.get(self.inverted),
            dict(self.settings),
            _number("threshold", _without_v(self.threshold), "volts, as 1.5"),
            _number("hysteresis", _without_v(self.hysteresis), "volts, as 0.2"),
            share / 100 if share is not None else None,
        )
        made = (self.made,) if self.made else ()
        return Anew(self.bus, self.code, asked, _roles(self.roles), made, self.given)

    @property
    def given(self) -> tuple[str, ...]:
        """What was set, by name."""
        named = {
            "code": self.code != "auto", "rate": bool(self.rate), "tolerance": bool(self.tolerance),
            "polarity": bool(self.inverted), "threshold": bool(self.threshold), "hysteresis": bool(self.hysteresis),
            "channels": bool(self.roles or self.made),
        }  # fmt: skip
        return (*(name for name, is_set in named.items() if is_set), *(name for name, _ in self.settings))


def as_read(bus: str, line: LineEntry | None) -> Trial:
    """A line as it was read so far: its code, and what a person set of it."""
    if line is None:
        return Trial(bus)
    settings = []
    for name in line.given:
        if name in line.settings:
            value = line.settings[name]
            settings.append((name, f"{value:g}" if isinstance(value, float) else str(value)))
    rate = f"{line.rate:.0f}" + (f" {line.fast_rate:.0f}" if line.fast_rate else "")
    return Trial(
        bus,
        line.code if "code" in line.given else "auto",
        rate if "rate" in line.given else "",
        inverted=("yes" if line.inverted else "no") if "polarity" in line.given else "",
        settings=tuple(settings),
    )


def rates_of(text: str) -> tuple[float | None, float | None]:
    """A rate in bit/s and that of the data phase, from rates or the lengths of bits; None of what was not said.

    Raises:
        InputError: one of them is none.
    """
    rates = []
    for word in re.split(r"[\s;]+|,\s+", text.strip()) if text.strip() else ():
        rates.append(_rate(word))
    if len(rates) > 2:
        raise InputError("rate", f"“{text}” holds {len(rates)} rates", "one, or that of the data phase behind it")
    slow, fast = (*rates, None, None)[:2]
    return slow, fast


def _rate(word: str) -> float:
    expected = "bit/s or the time of a bit, as 500k, 115200, 2us; 500k 2M with a data phase"
    length, rate = length_ns(word), _RATE.match(word)
    try:
        if length is not None:
            found = 1e9 / length
        elif rate is not None:
            found = float(rate[1].replace(",", "").replace("_", "")) * TIMES[rate[2].lower()]
        else:
            raise ValueError
    except ValueError:
        raise InputError("rate", f"“{word}” is no rate", expected) from None
    if not 1 <= found <= MOST_RATE:
        raise InputError("rate", f"“{word}” is {found:.3g} bit/s", expected)
    return found


def _without_v(text: str) -> str:
    return text.strip().lower().removesuffix("v").strip()


def _number(name: str, text: str, expected: str) -> float | None:
    if not text:
        return None
    try:
        return float(text)
    except ValueError:
        raise InputError(name, f"“{text}” is no number", expected) from None


def _roles(text: str) -> dict[str, str]:
    roles = {}
    for word in text.split():
        name, equals, role = word.rpartition("=")
        if not equals:
            raise InputError("roles", f"“{word}” names no role", "CHANNEL=ROLE, as CANH=high CANL=low")
        roles[name] = role.lower()
    return roles
