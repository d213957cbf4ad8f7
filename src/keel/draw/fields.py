"""Drawings of signals and of payloads: values over time, the bit loom, the ribbon."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from keel.draw.sheet import BRASS, CORAL, DIM, INK, LINE, PLUM, SEA, SLATE, new_sheet, save, words
from keel.measure.courses import Envelope
from keel.model.fields import BitField
from keel.model.frames import Times
from keel.model.units import NS_PER_S

COLOURS = (SEA, BRASS, PLUM, SLATE, INK, CORAL, DIM, "#5d7f2f")
ROLE_COLOURS = {"counter": SLATE, "checksum": PLUM, "flag": BRASS, "selector": CORAL, "constant": DIM}
LOOM_ROWS = 60


def draw_values(
    path: Path, title: str, series: Sequence[tuple[str, Envelope]], start: int, cursors: Sequence[int] = ()
) -> None:
    """Signals over time, one strip each: from least to most of each column, so that no spike is lost."""
    figure = new_sheet(10.0, 1.0 + 1.5 * max(len(series), 1))
    strips = figure.subplots(max(len(series), 1), 1, sharex=True, squeeze=False)[:, 0]
    for axes, (name, envelope), colour in zip(strips, series, COLOURS * 2, strict=False):
        middles = (envelope.edges[:-1] - start) / NS_PER_S
        there = np.isfinite(envelope.least)
        axes.fill_between(
            middles[there], envelope.least[there], envelope.most[there], color=colour, alpha=0.3, lw=0, step="post"
        )
        axes.step(middles[there], envelope.last[there], where="post", color=colour, linewidth=1.0)
        signal = envelope.signal
        axes.set_ylabel(words(signal.unit))
        axes.set_title(words(name))
        if signal.texts and len(signal.texts) <= 8:
            axes.set_yticks(
                [raw * signal.scale + signal.offset for raw in signal.texts], map(words, signal.texts.values())
            )
        for letter, cursor in zip("AB", cursors, strict=False):
            at = (cursor - start) / NS_PER_S
            axes.axvline(at, color=BRASS, linewidth=0.8)
            axes.text(at, 1.0, f" {letter}", color=BRASS, va="bottom", fontsize=8, transform=axes.get_xaxis_transform())
        axes.grid(axis="y", color=LINE, linewidth=0.5)
        axes.set_xlim((envelope.edges[0] - start) / NS_PER_S, (envelope.edges[-1] - start) / NS_PER_S)
    strips[-1].set_xlabel("seconds")
    figure.suptitle(words(title), x=0.01, ha="left", color=DIM, fontsize=9)
    save(figure, path)


def draw_loom(path: Path, title: str, shares: Any, edges: Times, start: int, fields: Sequence[Part] = ()) -> None:
    """The bit loom: bits across, time down, shade for how often each bit flips.

    Args:
        path: Where to.
        title: What stands above.
        shares: How often each bit flips in each stretch of time, shape (stretches, bits).
        edges: Bounds of the stretches in ns, shape (stretches + 1,).
        start: Time zero, in ns.
        fields: Known fields, drawn as brackets above: name, field, role.
    """
    bits = shares.shape[1]
    figure = new_sheet(max(4.0, min(0.11 * bits + 1.4, 16.0)), 5.0)
    axes = figure.subplots()
    top, bottom = ((int(t) - start) / NS_PER_S for t in (edges[0], edges[-1]))
    order = _across(bits)
    axes.imshow(
        shares[:, order],
        aspect="auto",
        cmap="BuGn",
        vmin=0,
        vmax=1,
        extent=(0, bits, bottom, top),
        interpolation="none",
    )
    axes.set_xticks(
        range(0, bits + 1, 8), [f"byte {b // 8}" if b < bits else "" for b in range(0, bits + 1, 8)], ha="left"
    )
    for edge in range(8, bits, 8):
        axes.axvline(edge, color=LINE, linewidth=0.6)
    axes.set_ylabel("seconds")
    axes.set_title(words(title), pad=24 if fields else 6)
    _brackets(axes, fields, bits, top - (bottom - top) * 0.02, -(bottom - top) * 0.03)
    save(figure, path)


Part = tuple[str, BitField, str]
"""A field on a drawing: its name, where it lies, its role."""


def draw_ribbon(path: Path, title: str, payload: bytes, fields: Sequence[Part]) -> None:
    """The ribbon: a payload as one row of bits, with brackets under it for the fields."""
    bits = len(payload) * 8
    per_row = 64
    rows = max(-(-bits // per_row), 1)
    figure = new_sheet(12.0, 0.8 + 1.5 * rows)
    grid = figure.subplots(rows, 1, squeeze=False)[:, 0]
    for row, axes in enumerate(grid):
        first, last = row * per_row, min((row + 1) * per_row, bits)
        axes.set_xlim(0, per_row)
        axes.set_ylim(-4.2, 1.8)
        axes.set_axis_off()
        for byte in range(first // 8, last // 8):
            at = byte * 8 - first
            axes.text(at + 4, 1.25, f"{byte}: {payload[byte]:02X}", ha="center", color=DIM, fontsize=8)
            for i in range(8):
                axes.text(
                    at + i + 0.5, 0.35, str(payload[byte] >> (7 - i) & 1), ha="center", color=INK, family="monospace"
                )
            axes.plot([at + 0.05, at + 7.95], [0.1, 0.1], color=LINE, linewidth=0.8)
        inside = [f for f in fields if any(first <= b < last for b in f[1].bits)]
        _brackets(axes, inside, per_row, -0.2, -0.55, first)
    figure.suptitle(words(title), x=0.01, ha="left", color=INK, fontsize=10)
    save(figure, path)


def _across(bits: int) -> Any:
    """Bit numbers from left to right: each byte's most significant bit first."""
    return np.arange(bits).reshape(-1, 8)[:, ::-1].ravel()


def _brackets(axes: Any, fields: Sequence[Part], bits: int, level: float, down: float, first: int = 0) -> None:
    """Brackets for fields, like the dimension lines of a drawing; overlapping ones on further levels."""
    taken: list[float] = []
    for name, field, role in sorted(fields, key=lambda f: min(b // 8 * 8 + 7 - b % 8 for b in f[1].bits)):
        places = sorted(b // 8 * 8 + 7 - b % 8 - first for b in field.bits)
        places = [p for p in places if 0 <= p < bits]
        left, right = places[0], places[-1] + 1
        depth = next((i for i, end in enumerate(taken) if end <= left), len(taken))
        taken[depth : depth + 1] = [right]
        y = level + down * depth * 1.9
        colour = ROLE_COLOURS.get(role, SEA)
        for start, end in _runs(places):
            axes.plot(
                [start + 0.1, end - 0.1], [y, y], color=colour, linewidth=2.2, clip_on=False, solid_capstyle="butt"
            )
        axes.text((left + right) / 2, y + down, words(name)[:24], ha="center", va="center", color=colour, fontsize=7)


def _runs(places: Sequence[int]) -> list[tuple[int, int]]:
    runs: list[tuple[int, int]] = []
    for place in places:
        if runs and runs[-1][1] == place:
            runs[-1] = (runs[-1][0], place + 1)
        else:
            runs.append((place, place + 1))
    return runs
