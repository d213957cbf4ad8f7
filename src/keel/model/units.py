"""Units that everything shares."""

NS_PER_S = 1_000_000_000
"""Times are kept in nanoseconds."""
FIRST_DATED_NS = 315_532_800 * NS_PER_S
"""Times from 1980 on are dates: no bus was recorded before. Lesser ones count from a zero of their own."""


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
