"""A sheet to draw on, and how it is saved. Nothing here opens a window; text from outside is never markup."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from keel.errors import InputError
from keel.model.safe_text import plain

INK, DIM, LINE = "#1b2530", "#6b7a88", "#c9d2da"
SEA, SLATE, PLUM, BRASS, CORAL, MOSS = "#2f8f80", "#4d76ab", "#8a62a0", "#b57d22", "#cf4740", "#6f8630"
BUS_COLOURS = (SEA, SLATE, PLUM, BRASS, MOSS)
ENDINGS = (".svg", ".pdf")


def bus_colour(index: int) -> str:
    """The colour of a bus on paper."""
    return BUS_COLOURS[index % len(BUS_COLOURS)]


def check_ending(path: Path) -> None:
    """Raise `InputError` unless the ending names a form we draw."""
    if path.suffix.lower() not in ENDINGS:
        raise InputError(str(path), f"cannot draw a “{path.suffix}” file", "an ending of .svg or .pdf")


def new_sheet(width: float = 10.0, height: float = 4.2) -> Any:
    """An empty figure, sizes in inches."""
    import matplotlib
    from matplotlib.figure import Figure

    matplotlib.rcParams.update(
        {
            "font.family": "sans-serif",
            "font.size": 9,
            "text.parse_math": False,
            "svg.hashsalt": "keel",
            "svg.fonttype": "none",
            "axes.edgecolor": LINE,
            "axes.labelcolor": DIM,
            "xtick.color": DIM,
            "ytick.color": DIM,
            "axes.spines.top": False,
            "axes.spines.right": False,
            "axes.titlelocation": "left",
            "axes.titlesize": 10,
            "axes.titlecolor": INK,
        }
    )
    return Figure(figsize=(width, height), layout="constrained")


def words(text: str) -> str:
    """Text from outside, fit to stand on a sheet."""
    return plain(text, 80)


def save(figure: Any, path: Path) -> None:
    """Write the figure; the same drawing gives the same file.

    Raises:
        InputError: the ending names no form we draw.
    """
    check_ending(path)
    metadata = {"Date": None} if path.suffix.lower() == ".svg" else {"CreationDate": None}
    figure.savefig(path, format=path.suffix[1:].lower(), metadata={**metadata, "Creator": "Keel"})
