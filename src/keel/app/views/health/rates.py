"""How fast a bus runs, said by a person: load and time on the line follow."""

from __future__ import annotations

from keel.app.desk import edits
from keel.app.frame.helm import Choice, Helm
from keel.measure.load import NOT_FOR_THIS
from keel.measure.rates import bit_rate
from keel.media.every import medium_of


def choose_bus(helm: Helm) -> None:
    """Choose a bus, if there are several, and say its rate."""
    buses = helm.here.picture.snapshot.manifest.buses
    with_load = [(place, bus) for place, bus in enumerate(buses) if medium_of(bus).has_load]
    if not with_load:
        helm.tell(f"a bit rate is {NOT_FOR_THIS}", 3)
        return
    if len(with_load) == 1:
        _ask(helm, with_load[0][0])
        return
    choices = [
        Choice(str(place), f"{bus.name}  {bit_rate(bus.bit_rate)}, data phase {bit_rate(bus.fast_bit_rate)}")
        for place, bus in with_load
    ]
    helm.windows.choose("the bit rate of which bus?", choices, lambda place: _ask(helm, int(place)))


def _ask(helm: Helm, place: int) -> None:
    bus = helm.here.picture.snapshot.manifest.buses[place]

    def said(text: str) -> None:
        rates = rates_in(text)
        if rates is None:
            helm.tell(f"“{text}” is no bit rate in {medium_of(bus).unit}", 4, error=True)
        else:
            helm.edit(f"bit rate of {bus.name}", edits.bus_rates(place, *rates))

    hint = "one number, or two: the second is that of the CAN FD data phase   enter keep   esc leave"
    title = f"How fast does bus {bus.name} run, in {medium_of(bus).unit}?"
    helm.windows.text(title, hint, f"{bus.bit_rate} {bus.fast_bit_rate}", said)


def rates_in(text: str) -> tuple[int, int | None] | None:
    """One or two rates in bit/s; None if the text says something else."""
    words = text.replace(",", " ").split()
    if not 1 <= len(words) <= 2 or not all(w.isascii() and w.isdecimal() and 0 < len(w) < 12 for w in words):
        return None
    return int(words[0]), int(words[1]) if len(words) == 2 else None
