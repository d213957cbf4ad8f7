"""Loading a dictionary for a command."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from keel.cli import say

if TYPE_CHECKING:
    from keel.signals.loading import Loaded


def load(file: Path) -> Loaded:
    """A dictionary; what is wrong with the file, and what does not fit, is told."""
    from keel.model.safe_text import plain
    from keel.signals.loading import load_dictionary

    loaded = load_dictionary(file)
    for problem in loaded.problems[:20]:
        say(f"keel: {plain(str(file))}: {plain(problem.words())}")
    if len(loaded.problems) > 20:
        say(f"keel: {plain(str(file))}: and {len(loaded.problems) - 20} more; keel dict check lists them")
    for words in loaded.lost:
        say(f"keel: {plain(str(file))}: not taken in: {plain(words)}")
    return loaded
