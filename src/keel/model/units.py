"""Units that everything shares."""

import re

NS_PER_S = 1_000_000_000
"""Times are kept in nanoseconds."""
FIRST_DATED_NS = 315_532_800 * NS_PER_S
"""Times from 1980 on are dates: no bus was recorded before. Lesser ones count from a zero of their own."""

TIME_NS = {"s": 1e9, "sec": 1e9, "ms": 1e6, "us": 1e3, "µs": 1e3, "μs": 1e3, "ns": 1.0}
"""Units of time as people write them, in lower case."""
_LENGTH = re.compile(r"(\d+\.?\d*|\.\d+)(e[+-]?\d+)?\s*(ns|us|µs|μs|ms|s)$", re.I)


def length_ns(text: str) -> float | None:
    """A length of time with its unit, as ``10us`` or ``12.5 ns``, in ns; None of what is none, or is not above 0."""
    found = _LENGTH.match(text.strip())
    if found is None:
        return None
    number = float(found[1] + (found[2] or "")) * TIME_NS[found[3].lower()]
    return number if 0 < number < float("inf") else None


def length_words(ns: float) -> str:
    """A length of time with the unit that suits it."""
    if ns < 0:
        return f"−{length_words(-ns)}"
    if ns < 1e3:
        return f"{ns:.0f} ns"
    if ns < 1e6:
        return f"{ns / 1e3:.1f} µs"
    if ns < 1e9:
        return f"{ns / 1e6:.1f} ms"
    if ns < 120e9:
        return f"{ns / 1e9:.3f} s"
    return f"{ns / 60e9:.1f} min"


def frequency_words(hertz: float) -> str:
    """A frequency with the unit that suits it, as ``4.8 kHz``."""
    for size, unit in ((1e6, "MHz"), (1e3, "kHz")):
        # What is rounded up to a thousand of one unit is one of the next.
        if hertz >= 0.99995 * size:
            return f"{hertz / size:.4g} {unit}"
    return f"{hertz:.4g} Hz"
