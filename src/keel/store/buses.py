"""What a recording says of its buses, changed afterwards: speed, name, what their times are of."""

from __future__ import annotations

from dataclasses import replace

from keel.errors import InputError
from keel.model.bus import LEAST_RATE, MOST_RATE, STAMPS, Bus, bus_name
from keel.store.manifest import Manifest


def place_of(manifest: Manifest, name: str) -> int:
    """Which bus of a recording has a name, in any case.

    Raises:
        InputError: none has.
    """
    names = manifest.bus_names
    if name in names:
        return names.index(name)
    in_any_case = [place for place, known in enumerate(names) if known.lower() == name.lower()]
    if not in_any_case:
        raise InputError(manifest.name, f"there is no bus “{name}”", ", ".join(names) or "a recording with buses")
    return in_any_case[0]


def changed(
    bus: Bus,
    bit_rate: int | None = None,
    fast_bit_rate: int | None = None,
    name: str | None = None,
    stamp: str | None = None,
) -> Bus:
    """A bus of which something is said anew; None leaves it.

    Raises:
        InputError: no bus can be so.
    """
    for rate in (bit_rate, fast_bit_rate):
        if rate is not None and not LEAST_RATE <= rate <= MOST_RATE:
            raise InputError(bus.name, f"no bus runs at {rate} bit/s", f"{LEAST_RATE} to {MOST_RATE}")
    if stamp is not None and stamp not in STAMPS:
        raise InputError(bus.name, f"times of “{stamp}” are not known", " or ".join(STAMPS))
    if name is not None and not name.strip():
        raise InputError(bus.name, "a bus has to have a name", "one that is not empty")
    return replace(
        bus,
        bit_rate=bus.bit_rate if bit_rate is None else bit_rate,
        fast_bit_rate=bus.fast_bit_rate if fast_bit_rate is None else fast_bit_rate,
        name=bus.name if name is None else bus_name(name),
        stamp=bus.stamp if stamp is None else stamp,
        assumed=bus.assumed and bit_rate is None,
        fast_assumed=bus.fast_assumed and fast_bit_rate is None,
    )


def put_bus(manifest: Manifest, place: int, bus: Bus) -> None:
    """Exchange what is said of a bus. What names it in the recording, its messages and dictionaries, goes along.

    Raises:
        InputError: another bus has the name.
    """
    before = manifest.buses[place]
    if bus.name in (other.name for i, other in enumerate(manifest.buses) if i != place):
        raise InputError(before.name, f"another bus is called {bus.name}", "a name of its own")
    manifest.buses[place] = bus
    if bus.name == before.name:
        return
    messages = tuple(replace(m, bus=bus.name) if m.bus == before.name else m for m in manifest.dictionary.messages)
    manifest.dictionary = replace(manifest.dictionary, messages=messages)
    manifest.dictionaries = [
        replace(entry, bus=bus.name) if entry.bus == before.name else entry for entry in manifest.dictionaries
    ]
