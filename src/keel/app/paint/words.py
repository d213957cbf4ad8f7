"""Numbers and times as the app writes them."""

from __future__ import annotations

import math
import time as clock

from keel.model.units import NS_PER_S, length_words


def count(number: int) -> str:
    """A count with thin groups, as ``1 482 003``."""
    return f"{number:,}".replace(",", " ")


def tally(number: int) -> str:
    """A count in at most nine characters: ``1 482 003``, ``104.2 M``."""
    return (
        count(number) if number < 10_000_000 else f"{number / 1e6:.1f} M" if number < 1e9 else f"{number / 1e9:.2f} G"
    )


def duration(ns: int) -> str:
    """Hours, minutes and seconds, as ``00:03:12.4``."""
    tenths = max(ns, 0) // (NS_PER_S // 10)
    seconds, tenth = divmod(tenths, 10)
    return f"{seconds // 3600:02}:{seconds // 60 % 60:02}:{seconds % 60:02}.{tenth}"


def seconds(ns: float, decimals: int = 3) -> str:
    """Nanoseconds as seconds, as ``92.326``."""
    return f"{ns / NS_PER_S:.{decimals}f}"


def cycle(ns: float) -> str:
    """A cycle time in ms, to a tenth, or in more digits where it is short."""
    ms = ns / 1e6
    return f"{ms:.3f}" if ms < 1 else f"{ms:.1f}"


def length(ns: float) -> str:
    """A length of time with the unit that suits it."""
    return length_words(ns)


def volts(value: float, swing: float) -> str:
    """Volts, as finely as matters beside a swing."""
    decimals = max(0, 2 - math.floor(math.log10(swing))) if swing > 0 else 3
    # What rounds to nothing has no sign.
    return f"{round(value, decimals) + 0.0:.{min(decimals, 9)}f} V"


def measured(value: float) -> str:
    """A measured number as far as it matters: whole where it is large, ``0`` where it is next to nothing."""
    if abs(value) >= 1000:
        return count(round(value))
    return "0" if abs(value) < 0.0005 else f"{value:.4g}"


def lasting(seconds: float) -> str:
    """How long something lasts, roughly: ``14 min``, ``9 h``, ``12 days``."""
    if seconds < 5400:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.0f} h" if seconds < 48 * 3600 else f"{seconds / 86400:,.0f} days".replace(",", " ")


def of_day(ns: int, decimals: int = 6) -> str:
    """The time of day (UTC), cut at so many decimals; what lies before a zero of its own stands behind a minus."""
    if ns < 0:
        return "-" + of_day(-ns, decimals)
    whole, rest = divmod(ns, NS_PER_S)
    return clock.strftime("%H:%M:%S", clock.gmtime(whole)) + f".{rest:09d}"[: decimals + 1]


def percent(share: float) -> str:
    """A share as a percentage, as ``41 %``; under ten per cent to a tenth."""
    return f"{share * 100:.1f} %" if share < 0.0995 else f"{share * 100:.0f} %"


def step(ns: int, decimals: int = 6) -> str:
    """A time difference in seconds with its sign; a point for none (-1)."""
    return "·" if ns == -1 else f"{ns / 1e9:+.{decimals}f}"
