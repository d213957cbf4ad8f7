"""Which bus of one recording is which of another: as given, by name, or by who talks on it."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from keel.ask.names import keys_of
from keel.errors import InputError
from keel.model.identity import unpack_key
from keel.store.recording import Snapshot

ALIKE = 0.5
"""Buses of different names are taken for one where they share so many of their identifiers, of all that either has."""
FEWEST_SHARED = 2
_BUS_BITS = 56


@dataclass(frozen=True)
class BusPairs:
    """How identifiers go from one recording to the other.

    A bus that only the second has is known to the first by a number beyond its own.

    Attributes:
        a, b: Names of the buses of each, in index order.
        partners: For each bus of the second the one of the first that it is, by index; None if it is none.
        words: What was not matched by name, in sentences.
    """

    a: tuple[str, ...]
    b: tuple[str, ...]
    partners: tuple[int | None, ...]
    words: tuple[str, ...] = ()

    def to_a(self, key: int) -> int:
        """By which key the first knows an identifier of the second."""
        bus = key >> _BUS_BITS
        partner = self.partners[bus] if bus < len(self.partners) else None
        return _on(len(self.a) + bus if partner is None else partner, key)

    def to_b(self, key: int) -> int | None:
        """The key of the second; None if it has no such bus."""
        bus = key >> _BUS_BITS
        if bus >= len(self.a):
            return _on(bus - len(self.a), key)
        return _on(self.partners.index(bus), key) if bus in self.partners else None

    def name(self, key: int) -> str:
        """The bus of a key of the first, by its name."""
        bus = key >> _BUS_BITS
        return self.a[bus] if bus < len(self.a) else self.b[bus - len(self.a)]


def _on(bus: int, key: int) -> int:
    return bus << _BUS_BITS | key & (1 << _BUS_BITS) - 1


def pair_buses(first: Snapshot, second: Snapshot, given: Mapping[str, str] | None = None) -> BusPairs:
    """Match the buses of two recordings: as given, then by name, then those left by the identifiers on them.

    Args:
        first, second: The recordings.
        given: Name in the first, name in the second; an empty name matches a bus with none.

    Raises:
        InputError: a bus that is given is not there.
    """
    a, b = first.manifest.bus_names, second.manifest.bus_names
    partners: list[int | None] = [None] * len(b)
    alone_a, alone_b = set(), set()
    for ours, theirs in (given or {}).items():
        for name, names, side in ((ours, a, "first"), (theirs, b, "second")):
            if name and name not in names:
                raise InputError(f"bus {name}", f"is not in the {side} recording", ", ".join(names))
        if ours and theirs:
            partners[b.index(theirs)] = a.index(ours)
        elif ours:
            alone_a.add(ours)
        elif theirs:
            alone_b.add(theirs)
    for place, name in enumerate(b):
        if partners[place] is None and name in a and name not in alone_a | alone_b:
            ours_at = a.index(name)
            partners[place] = ours_at if ours_at not in partners else None
    words = []
    talkers_a, talkers_b = _talkers(first), _talkers(second)
    free = [i for i, name in enumerate(a) if i not in partners and name not in alone_a]
    left = [i for i, name in enumerate(b) if partners[i] is None and name not in alone_b]
    rated = [(len(talkers_a[i] & talkers_b[j]), len(talkers_a[i] | talkers_b[j]), i, j) for i in free for j in left]
    for shared, all_, i, j in sorted(rated, key=lambda r: (-r[0] / max(r[1], 1), r[2], r[3])):
        if shared >= FEWEST_SHARED and shared >= ALIKE * all_ and i not in partners and partners[j] is None:
            partners[j] = i
            taken = f"bus {b[j]} of the other is taken for {a[i]} of this"
            words.append(f"{taken}: {shared} of {all_} identifiers are the same")
    for j, name in enumerate(b):
        if partners[j] is None and talkers_b[j]:
            words.append(f"bus {name} of the other is none of this")
    return BusPairs(tuple(a), tuple(b), tuple(partners), tuple(words))


def _talkers(snapshot: Snapshot) -> list[set[tuple[int, int]]]:
    """The identifiers on each bus."""
    found: list[set[tuple[int, int]]] = [set() for _ in snapshot.manifest.buses]
    for key in keys_of(snapshot):
        bus, form, ident = unpack_key(key)
        found[bus].add((form, ident))
    return found


def pair_given(texts: Collection[str], first: Snapshot, second: Snapshot) -> dict[str, str]:
    """Pairs from texts ``A=B``; names may hold ``=``, and either may be left out.

    Raises:
        InputError: a text is no pair of buses that are there.
    """
    a, b = first.manifest.bus_names, second.manifest.bus_names
    found: dict[str, str] = {}
    for text in texts:
        cuts = [i for i, sign in enumerate(text) if sign == "="]
        fit = [(text[:i], text[i + 1 :]) for i in cuts if text[:i] in ("", *a) and text[i + 1 :] in ("", *b)]
        if not fit or fit[0] == ("", ""):
            buses = f"{', '.join(a)} in the first, {', '.join(b)} in the second"
            raise InputError(f"--bus {text}", "is no pair of buses", f"A=B, with {buses}")
        found.update([fit[0]])
    return found
