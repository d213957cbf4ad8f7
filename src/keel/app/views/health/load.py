"""Health's chart: the load of each bus over the lens."""

from __future__ import annotations

import numpy as np

from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Chart, Curve, draw_chart
from keel.app.views.health.wants import Health
from keel.measure.load import NOT_FOR_THIS
from keel.media.every import medium_of
from keel.model.units import NS_PER_S

TOPS = (5, 10, 20, 50, 100, 200, 500)


def load_lines(here: Here, health: Health, width: int, height: int) -> list[Line]:
    """Title, chart, and each bus's mean and peak."""
    picture, style = here.picture, here.style
    title = Line(width, style("text"))
    asked = picture.wish.ask
    of = "load by the frames of the ask, in the lens" if asked else "load of each bus in the lens"
    buses = picture.snapshot.manifest.buses
    assumed = any(bus.assumed and medium_of(bus).has_load for bus in buses)
    rates = "bit rates assumed, r corrects" if assumed else "exact bits on the wire"
    has_load = any(load.has_load for load in health.loads if load.frames) or not health.loads
    if not has_load:
        of, rates, assumed = "frames of each bus in the lens", "per second", False
    title.put(2, f"{of}, {rates}", style("brass" if asked or assumed else "dim"), width - 4)
    series, zero = health.series, picture.zero
    start, end = picture.lens.start, picture.lens.end
    cells = series.load.shape[1]
    x = (np.linspace(start, end, cells + 1)[:-1] + (end - start) / cells / 2 - zero) / NS_PER_S
    shown = series.load * 100 if has_load else series.rate_hz
    most = float(shown.max(initial=0.0))
    top = next((t for t in TOPS if most <= t * 0.98), 1e9 if has_load else most * 1.1)
    which = [i for i, load in enumerate(health.loads) if load.frames and load.has_load == has_load]
    curves = [Curve(x, shown[i], here.palette.bus(i)) for i in which]
    unit = " %" if has_load else " /s"
    chart = Chart(curves, ((start - zero) / NS_PER_S, (end - zero) / NS_PER_S), (0.0, float(top)), unit)
    foot = _foot(here, health, width, height // 3)
    return [title, *draw_chart(here.palette, width, height - 1 - len(foot), chart), *foot]


def _foot(here: Here, health: Health, width: int, most: int) -> list[Line]:
    """Mean and peak of each bus, on as many lines as they need; if those are too many, how many buses are left out."""
    picture, asked = here.picture, here.picture.wish.ask
    feet, at = [Line(width, here.style("text"))], 2
    # A bus may have been added since this was measured.
    measured = list(zip(picture.snapshot.manifest.buses, health.loads, health.peaks, strict=False))
    for i, (bus, load, peak) in enumerate(measured):
        if not load.has_load:
            text = f"{words.tally(load.frames)} frames; load: {NOT_FOR_THIS}"
        elif load.mean is None or peak is None:
            text = f"{load.frames} frames: too short a time for a load"
        else:
            text = f"mean {load.mean:.1%}  peak {peak.load:.1%}"
            if health.looked < 1:
                text += f" so far, {health.looked:.0%} looked at"
            elif width > 80:
                text += f" at {(peak.at - picture.zero) / 1e9:.1f} s"
        silent = "no frame of the ask" if asked else "silent"
        text = text if load.frames else silent
        if at > 2 and at + len(bus.name) + 2 + len(text) > width:
            if len(feet) == most:
                more = f"+{len(measured) - i}"
                feet[-1].put(max(width - len(more) - 1, 0), more, here.style("dim"))
                break
            feet.append(Line(width, here.style("text")))
            at = 2
        at = feet[-1].put(at, bus.name, here.style(here.palette.bus(i))) + 2
        at = feet[-1].put(at, text, here.style("text")) + 3
    return feet
