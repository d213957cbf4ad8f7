"""What a kind of line says of itself, once. Whatever prints, asks or draws frames takes it from here."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from keel.model.faults import Fault

if TYPE_CHECKING:
    from keel.media.header import HeaderField
    from keel.model.frames import FrameBatch


@dataclass(frozen=True)
class IdentForm:
    """One way in which identifiers are numbered and written.

    Attributes:
        number: What recordings store; of all media together, and never used again.
        word: What a dictionary calls it.
        title: What it is, before the identifier.
        bits: How many an identifier has; at most 48.
        digits: Hex digits it is always written with; 0: as many as it needs.
        group: The part of an identifier that says what is meant, whoever sends it; None if there is no such part.
        kind: What JSON calls frames of the form, if flags do not say it; usually nothing.
        role: What frames of the form are to others that are written the same, as ``scan response``; usually nothing.
        written: How it is written, if not in hex digits.
        read: The inverse, for what is no hex number: the identifier, and which of its bits are meant; None if the
            text is none.
    """

    number: int
    word: str
    title: str
    bits: int
    digits: int = 0
    group: Callable[[int], int] | None = None
    role: str = ""
    written: Callable[[int], str] | None = None
    read: Callable[[str], tuple[int, int] | None] | None = None
    kind: str = ""

    @property
    def most(self) -> int:
        """The greatest identifier."""
        return (1 << self.bits) - 1

    def write(self, ident: int) -> str:
        """An identifier as people write it."""
        return f"{ident:0{self.digits}X}" if self.written is None else self.written(ident)


@dataclass(frozen=True)
class HeaderBits:
    """A field of the header as it went over the line: its name, its bits, what they mean; the identifier's own are
    marked."""

    name: str
    bits: str
    meaning: str = ""
    is_ident: bool = False


def _nothing(_: FrameBatch) -> list[HeaderBits]:
    return []


def _says_nothing(_form: int, _flags: int, _dlc: int) -> dict[str, bool | int]:
    return {}


Spoiled = Literal["identifier", "payload", "nothing"]


@dataclass(frozen=True)
class Medium:
    """A kind of line.

    Attributes:
        name: The word by which recordings and commands know it.
        title: What people call it.
        unit: The unit of its speed.
        forms: Its forms of identifiers.
        rates: The speeds that are usual, slow to fast. Without any there is no load: how long frames take is not known.
        rest_bits: How many of the bits that are counted for a frame follow its end.
        kind: What sort of frame flags make it, in words; of a batch of one frame.
        size: What is said of its length beside the identifier.
        header: The header's fields in the order they are sent, of a batch of one frame; empty if it has none.
        says: What the interchange forms say of a frame besides, from its form, flags and DLC.
        faults: The faults that its frames can have, and what each means in a sentence.
        spoils: What a fault spoils, if not the payload: the identifier, or nothing.
        fields: What its headers hold; the columns ``header`` of recordings are laid out so.
        header_bytes: How many bytes a header has.
        brief: What lists show of a header, in a few words; of a batch of one frame. None if its frames have no header.
        called: What a frame of a form, by its payload, says its sender is called; empty if it says nothing.
        parts: What a frame says, piece by piece: a word and what it says; of a batch of one frame.
        ident_cells: How wide an identifier is, usually.
    """

    name: str
    title: str
    unit: str
    forms: tuple[IdentForm, ...]
    rates: tuple[int, ...] = ()
    rest_bits: int = 0
    kind: Callable[[FrameBatch], str] = lambda _: ""
    size: Callable[[FrameBatch], str] = lambda _: ""
    header: Callable[[FrameBatch], list[HeaderBits]] = _nothing
    says: Callable[[int, int, int], Mapping[str, bool | int]] = field(default=_says_nothing)
    faults: Mapping[Fault, str] = field(default_factory=dict)
    spoils: Mapping[Fault, Spoiled] = field(default_factory=dict)
    fields: tuple[HeaderField, ...] = ()
    header_bytes: int = 0
    brief: Callable[[FrameBatch], str] | None = None
    called: Callable[[int, bytes], str] = lambda _form, _payload: ""
    parts: Callable[[FrameBatch], list[tuple[str, str]]] = lambda _: []
    ident_cells: int = 11

    @property
    def has_load(self) -> bool:
        """Whether it can be said how much of the time the line is in use."""
        return bool(self.rates)
