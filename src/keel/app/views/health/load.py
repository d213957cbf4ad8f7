"""Health's chart: the load of each bus over the lens."""

from __future__ import annotations

import numpy as np

from keel.app.frame.helm import Here
from keel.app.paint.canvas import Line
from keel.app.paint.chart import Chart, Curve, draw_chart
from keel.app.views.health.wants import Health
from keel.model.units import NS_PER_S

TOPS = (5, 10, 20, 50, 100, 200, 500)


def load_lines(here: Here, health: Health, width: int, height: int) -> list[Line]:
    """Title, chart, and each bus's mean and peak."""
    picture, style = here.picture, here.style
    title = Line(width, style("text"))
    asked = picture.wish.ask
    of = "load by the frames of the ask, in the lens" if asked else "load of each bus in the lens"
    title.put(2, f"{of}, exact bits on the wire", style("brass" if asked else "dim"), width - 4)
    series, zero = health.series, picture.whole.start
    start, end = picture.lens.start, picture.lens.end
    cells = series.load.shape[1]
    x = (np.linspace(start, end, cells + 1)[:-1] + (end - start) / cells / 2 - zero) / NS_PER_S
    most = float(series.load.max(initial=0.0)) * 100
    top = next((t for t in TOPS if most <= t * 0.98), 1e9)
    curves = [Curve(x, series.load[i] * 100, here.palette.bus(i)) for i, load in enumerate(health.loads) if load.frames]
    chart = Chart(curves, ((start - zero) / NS_PER_S, (end - zero) / NS_PER_S), (0.0, float(top)), " %")
    return [title, *draw_chart(here.palette, width, height - 2, chart), _foot(here, health, width)]


def _foot(here: Here, health: Health, width: int) -> Line:
    picture, asked = here.picture, here.picture.wish.ask
    foot, at = Line(width, here.style("text")), 2
    # A bus may have been added since this was measured.
    for i, (bus, load, peak) in enumerate(
        zip(picture.snapshot.manifest.buses, health.loads, health.peaks, strict=False)
    ):
        at = foot.put(at, bus.name, here.style(here.palette.bus(i))) + 2
        if load.mean is None or peak is None:
            text = f"{load.frames} frames: too short a time for a load"
        else:
            text = f"mean {load.mean:.1%}  peak {peak.load:.1%}"
            if health.looked < 1:
                text += f" so far, {health.looked:.0%} looked at"
            elif width > 80:
                text += f" at {(peak.at - picture.whole.start) / 1e9:.1f} s"
        silent = "no frame of the ask" if asked else "silent"
        at = foot.put(at, text if load.frames else silent, here.style("text")) + 3
    return foot
