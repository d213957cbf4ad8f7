"""A signal database as the industry's text form holds it: everything that form can say, and nothing of Keel's.

Numbers are kept as they are written, so that what is read is written back unchanged.
"""

from __future__ import annotations

from dataclasses import dataclass
from dataclasses import field as default

from keel.model.fields import BitField

EXTENDED_BIT = 1 << 31
"""Set in the number of a message with a 29-bit identifier."""


@dataclass(frozen=True)
class Multiplexing:
    """How a signal is multiplexed: whether it selects, which value of which selector it belongs to.

    Attributes:
        selects: Whether other signals depend on it.
        page: The selector's value for it, in the plain form; None if it is always there.
        selector: The signal that selects it, where several do (the extended form); else empty.
        ranges: The selector's values for it, first and last, in the extended form.
    """

    selects: bool = False
    page: int | None = None
    selector: str = ""
    ranges: tuple[tuple[int, int], ...] = ()


@dataclass
class DbSignal:
    """A signal. ``number`` says how the bits are read: ``integer``, ``float`` or ``double`` (IEEE 754)."""

    name: str
    field: BitField
    scale: str = "1"
    offset: str = "0"
    least: str = "0"
    most: str = "0"
    unit: str = ""
    receivers: tuple[str, ...] = ()
    multiplexing: Multiplexing = Multiplexing()
    number: str = "integer"
    texts: dict[int, str] = default(default_factory=dict)
    comment: str = ""
    attributes: dict[str, str] = default(default_factory=dict)


@dataclass
class DbMessage:
    """A message; ``number`` as written, with `EXTENDED_BIT` for 29-bit identifiers."""

    number: int
    name: str
    size: int
    sender: str = ""
    signals: list[DbSignal] = default(default_factory=list)
    senders: tuple[str, ...] = ()
    comment: str = ""
    attributes: dict[str, str] = default(default_factory=dict)

    @property
    def is_extended(self) -> bool:
        """Whether its identifier has 29 bits."""
        return bool(self.number & EXTENDED_BIT)

    @property
    def ident(self) -> int:
        """The identifier."""
        return self.number & ~EXTENDED_BIT

    def signal(self, name: str) -> DbSignal | None:
        """A signal by name."""
        return next((s for s in self.signals if s.name == name), None)


@dataclass
class AttributeRule:
    """What an attribute may be: of what kind of thing, its type as written, and its default as written."""

    of: str
    name: str
    type: str
    default: str = ""


@dataclass(frozen=True)
class Problem:
    """A statement that was passed over: where it begins, what is wrong, what was expected."""

    line: int
    column: int
    what: str
    expected: str

    def words(self) -> str:
        """One line."""
        return f"line {self.line}, column {self.column}: {self.what}; expected {self.expected}"


@dataclass
class Database:
    """A whole file.

    Attributes:
        others: Statements that are not understood, as written; written back at the end.
        encoding: How the file's text is coded.
        newline: How its lines end.
    """

    version: str = ""
    nodes: list[str] = default(default_factory=list)
    messages: list[DbMessage] = default(default_factory=list)
    tables: dict[str, dict[int, str]] = default(default_factory=dict)
    rules: list[AttributeRule] = default(default_factory=list)
    attributes: dict[str, str] = default(default_factory=dict)
    node_attributes: dict[str, dict[str, str]] = default(default_factory=dict)
    node_comments: dict[str, str] = default(default_factory=dict)
    comment: str = ""
    new_symbols: list[str] = default(default_factory=list)
    others: list[str] = default(default_factory=list)
    problems: list[Problem] = default(default_factory=list)
    encoding: str = "utf-8"
    newline: str = "\n"

    def attribute(self, of: DbMessage | DbSignal, name: str) -> str | None:
        """An attribute as written, or its default."""
        found = of.attributes.get(name)
        if found is not None:
            return found
        rule = next((r for r in self.rules if r.name == name), None)
        return rule.default if rule is not None and rule.default else None
