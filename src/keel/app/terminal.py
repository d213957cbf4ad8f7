"""The terminal that the app runs in, and whether it is still there.

One that is closed signals its end; but a program that was told not to mind, as from `nohup`, or whose connection broke,
reads nothing for ever after, as fast as it can.
"""

from __future__ import annotations

import os
import sys

LOOK_EVERY_S = 1.0


def has_terminal() -> bool:
    """Whether somebody may type: standard input is a terminal that is not closed."""
    try:
        return sys.__stdin__ is not None and os.isatty(sys.__stdin__.fileno())
    except (OSError, ValueError):
        return False
