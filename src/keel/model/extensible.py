"""Data that a later Keel may have added to: what this one does not know of it is kept through every edit."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import MISSING, dataclass, field, fields, replace
from typing import Any, TypeVar

E = TypeVar("E", bound="Extensible")
T = TypeVar("T")


@dataclass(frozen=True)
class Extensible:
    """Something that is stored by the names of its fields.

    Attributes:
        more: What was stored besides, by names that are not known.
    """

    more: Mapping[str, Any] = field(default_factory=dict, kw_only=True, compare=False, repr=False)


def from_plain(data: Mapping[str, Any], kind: type[E], passed_over: Collection[str] = ()) -> E:
    """The inverse of `to_plain`.

    Args:
        data: Plain data.
        kind: What is made of it.
        passed_over: Names that are known and stand for something else.

    Raises:
        TypeError, ValueError: something is missing, or not what it should be.
    """
    import msgspec

    if not isinstance(data, Mapping):
        raise TypeError(f"{data!r:.40} is no {kind.__name__}")
    known = {one.name for one in fields(kind)} - {"more"}
    made = msgspec.convert({name: value for name, value in data.items() if name in known}, kind, str_keys=True)
    more = {name: value for name, value in data.items() if name not in known and name not in passed_over}
    return replace(made, more=more) if more else made


def to_plain(thing: Extensible, later: Collection[str] = ()) -> dict[str, Any]:
    """Plain data by the names of the fields, and what is kept besides.

    Args:
        thing: What is to be stored.
        later: Fields that came later: they are left out where they are as by default, as an older Keel expects it.
    """
    plain: dict[str, Any] = {}
    for one in fields(thing):
        value = getattr(thing, one.name)
        default = one.default_factory() if one.default_factory is not MISSING else one.default
        if one.name != "more" and not (one.name in later and value == default):
            plain[one.name] = value
    return {**plain, **thing.more}


def plain_of_kind(data: Any, kind: type[T]) -> T:
    """Something of a kind from plain data; what the kind does not know is passed over.

    Raises:
        TypeError, ValueError: something is missing, or not what it should be.
    """
    import msgspec

    if not isinstance(data, Mapping):
        raise TypeError(f"{data!r:.40} is no {kind.__name__}")
    made: T = msgspec.convert(dict(data), kind, str_keys=True)
    return made
