"""Two recordings, or two spans of one, side by side: aligned, compared, reported."""
