"""What can be worked aboard: levers, switches, and the faults that can be set."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import get_close_matches

from keel.errors import ControlError


@dataclass(frozen=True)
class Control:
    """One thing that can be worked.

    Attributes:
        choices: The values it takes; empty for a number between ``low`` and ``high``.
        auto: Whether ``auto`` leaves it to the crew.
        momentary: It springs back: the value is an event.
        group: ``device`` or ``fault``.
    """

    name: str
    title: str
    default: str
    choices: tuple[str, ...] = ()
    low: float = 0.0
    high: float = 0.0
    step: float = 1.0
    unit: str = ""
    auto: bool = False
    momentary: bool = False
    group: str = "device"
    words: str = ""

    def check(self, value: str) -> str:
        """The value in its proper spelling.

        Raises:
            ControlError: the control does not take it.
        """
        value = value.strip().lower()
        if value in self.choices or (self.auto and value == "auto"):
            return value
        if not self.choices:
            try:
                number = float(value)
            except ValueError:
                number = float("nan")
            if self.low <= number <= self.high:
                return f"{number:g}"
        raise ControlError(f"{self.name} takes {self.takes()}, not “{value}”")

    def takes(self) -> str:
        """The values it takes, in words."""
        if self.choices:
            return ", ".join(self.choices)
        return f"{self.low:g} to {self.high:g} {self.unit}".rstrip() + (" or auto" if self.auto else "")


ON_OFF = ("off", "on")
CONTROLS: tuple[Control, ...] = (
    Control("ramp", "bow ramp", "stop", ("up", "stop", "down"), words="its push-button panel"),
    Control("thruster", "bow thruster", "off", ("port", "off", "starboard"), words="starting it disturbs bus A"),
    Control("lever", "thrust lever", "auto", low=0, high=100, step=10, unit="%", auto=True, words="both pods"),
    Control("wheel", "helm wheel", "auto", low=-35, high=35, step=5, unit="°", auto=True, words="port is negative"),
    Control("shore", "shore link", "unplugged", ("plugged", "unplugged"), words="pulled, its partner asks in vain"),
    Control("door-fore", "fore door", "closed", ("closed", "open")),
    Control("door-aft", "aft door", "closed", ("closed", "open")),
    Control("cabin", "cabin temperature wanted", "21", low=16, high=26, step=1, unit="°C"),
    Control("lights", "deck lights", "off", ON_OFF),
    Control("fault-panel", "ramp panel dead", "off", ON_OFF, group="fault", words="repeats one idle message"),
    Control(
        "fault-trim",
        "trim controller drops out",
        "rest",
        ("rest", "now"),
        momentary=True,
        group="fault",
        words="silent for 1.3 s",
    ),
    Control("fault-thruster", "thruster start corrupts", "on", ON_OFF, group="fault", words="CRC faults on bus A"),
    Control(
        "fault-pack2",
        "pack two loses its sensor",
        "on",
        ON_OFF,
        group="fault",
        words="“not available”, at times",
    ),
    Control(
        "fault-sum",
        "starboard pod sums wrongly",
        "on",
        ON_OFF,
        group="fault",
        words="one frame of a thousand",
    ),
)
BY_NAME = {control.name: control for control in CONTROLS}


def timed(text: str) -> tuple[float, str, str]:
    """``time:name=value`` as seconds, the control's name and a value that it takes.

    Raises:
        ControlError: it is not of that form, there is no such control, or it does not take the value.
    """
    match = re.fullmatch(r"(\d+(?:\.\d+)?)s?:(.+)", text.strip())
    if match is None:
        raise ControlError(f"“{text}” is not of the form time:control=value")
    return float(match[1]), *parse_setting(match[2])


def parse_setting(text: str) -> tuple[str, str]:
    """``name=value`` as the control's name and a value that it takes.

    Raises:
        ControlError: there is no such control, or it does not take the value.
    """
    name, equals, value = text.partition("=")
    name = name.strip().lower()
    if not equals:
        raise ControlError(f"“{text}” is not of the form control=value")
    if name not in BY_NAME:
        near = get_close_matches(name, BY_NAME, 1, 0.4)
        hint = f"; {near[0]}?" if near else f"; there are {', '.join(BY_NAME)}"
        raise ControlError(f"no control is called “{name}”{hint}")
    return name, BY_NAME[name].check(value)
