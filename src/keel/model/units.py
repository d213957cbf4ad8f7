"""Units that everything shares."""

NS_PER_S = 1_000_000_000
"""Times are kept in nanoseconds."""
