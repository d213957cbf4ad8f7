"""Health's list of cycle times: how steady each identifier is, its longest gap, who stopped."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.strokes import spark
from keel.app.paint.table import Column, fit, grow, header, row_line, width_of, write_cells
from keel.app.views.health.wants import Health
from keel.measure.cycles import Cycle
from keel.media.every import key_words

COLUMNS = (
    Column("bus", "bus", 4),
    Column("id", "identifier", 10, True),
    Column("name", "name", 17, drop=1),
    Column("nominal", "nominal ms", 10, True, drop=2),
    Column("mean", "mean ms", 9, True, drop=6),
    Column("jitter", "std ms", 9, True, drop=5),
    Column("p95", "p95 ms", 8, True, drop=8),
    Column("p99", "p99 ms", 8, True, drop=7),
    Column("histogram", "around nominal", 22, drop=3),
    Column("gap", "longest gap", 12, True),
    Column("at", "at s", 10, True, drop=4),
    Column("state", "state", 24),
)
STATE_ROLES = {"steady": "dim", "too few": "faint"}


def cycle_lines(here: Here, health: Health, top: int, height: int, in_hand: int | None, has_keys: bool) -> list[Line]:
    """A rule, titles, and the rows from ``top`` on; ``in_hand`` is an identifier's key."""
    cycles = health.cycles
    width, style = here.width, here.style
    columns = placed(here)
    rule = here.line()
    rule.put(0, "─" * width, style("line"))
    one = next((c for c in cycles if c.key == in_hand and c.high > c.low), None)
    if one is not None and width_of(columns, "histogram"):
        low, high = words.cycle(one.low), words.cycle(one.high)
        text = f" distribution around nominal, heights as square roots; of {key_words(one.key)}: {low} to {high} ms "
        rule.put(2, text, style("dim"), width - 4)
    lines = [rule, header(here.palette, width, columns, 2, lit="id" if has_keys else "")]
    if not cycles and height > 3:
        lines.append(here.line())
        text = "no frame without fault meets the ask: there are no cycle times"
        lines[-1].put(2, text, style("dim"), width - 3)
    room = max(height - 2, 1)
    for cycle in cycles[top : top + room]:
        lines.append(_cycle(here, cycle, columns, has_keys and cycle.key == in_hand))
    below = len(cycles) - top - room
    if below > 0:
        lines[-1].put(width - 12, f"↓ {below + 1} more", style("dim"), 12, True)
    if health.left_out:
        rest = words.count(health.left_out)
        text = f" the {words.count(len(cycles))} that are heard most; an ask leaves others of the {rest} more "
        rule.put(2, text, style("brass"), width - 4)
    return lines


def placed(here: Here) -> list[tuple[Column, int]]:
    """The columns that fit."""
    buses = max((len(bus.name) for bus in here.picture.snapshot.manifest.buses), default=1)
    ident = here.picture.ident_cells
    sizes = {"bus": min(max(4, buses + 2), 14), "id": ident if ident > 11 else 10}
    wanted = tuple(replace(c, width=sizes.get(c.name, c.width)) for c in COLUMNS)
    columns = fit(wanted, here.width - 3)
    spare = here.width - 3 - columns[-1][1] - columns[-1][0].width
    return grow(columns, "histogram", 22) if spare >= 22 else columns


def _cycle(here: Here, cycle: Cycle, columns: Sequence[tuple[Column, int]], in_hand: bool) -> Line:
    picture, baseline = here.picture, here.state.baseline
    line, on = row_line(here.palette, here.width, in_hand)
    bus, zero = cycle.key >> 56, picture.zero
    odd = cycle.state not in STATE_ROLES
    times = {"dropped out": cycle.gaps, "late": cycle.late}.get(cycle.state)
    state = f"{cycle.state} {words.count(times)}×" if times else cycle.state
    if cycle.began is not None:
        state, odd = f"{state}, new at {words.seconds(cycle.began - zero, 1)} s", True
    if baseline is not None and cycle.key in picture.census and picture.census[cycle.key].first >= baseline:
        state, odd = f"new · {state}", True
    cells = {
        "bus": (f" {picture.bus_name(cycle.key)}", here.palette.bus(bus)),
        "id": (key_words(cycle.key), "strong"),
        "name": picture.called(cycle.key, picture.census[cycle.key].payload if cycle.key in picture.census else b""),
        "nominal": (words.cycle(cycle.nominal) + ("*" if cycle.named else ""), "text"),
        "mean": (words.cycle(cycle.mean), "dim"),
        "jitter": (f"{cycle.deviation / 1e6:.1f}", "dim"),
        "p95": (words.cycle(cycle.p95), "dim"),
        "p99": (words.cycle(cycle.p99), "dim"),
        "histogram": (spark(np.sqrt(cycle.in_cells(width_of(list(columns), "histogram")))), here.palette.bus(bus)),
        "gap": (words.length(cycle.gap), "brass" if odd else "dim"),
        "at": (words.seconds(cycle.gap_at - zero), "dim"),
        "state": (state, "brass" if odd else STATE_ROLES[cycle.state]),
    }
    write_cells(here.palette, line, columns, 2, cells, on, "id")
    return line
