"""Lines: what frames are on the wire. Electrical traces to frames will join here, one file per line code."""
