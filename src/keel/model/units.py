"""Units that everything shares."""

NS_PER_S = 1_000_000_000
"""Times are kept in nanoseconds."""
FIRST_DATED_NS = 315_532_800 * NS_PER_S
"""Times from 1980 on are dates: no bus was recorded before. Lesser ones count from a zero of their own."""
