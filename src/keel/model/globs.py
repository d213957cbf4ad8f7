"""Names as people write them: bare or in quotes, ``*`` and ``?`` standing for what may vary.

Within quotes a backslash takes the meaning from ``*``, ``?``, ``"`` and itself, so that every name can be written.
Bare words take a backslash for itself.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

_BARE = re.compile(r"[^\s,()\":\\=<>!]+")
_DOTLESS = re.compile(r"[^\W\d][\w*?]*|[*?][\w*?]*")
_ATOMS = re.compile(r"\\[*?\\]|.", re.DOTALL)


@dataclass(frozen=True)
class Glob:
    """A pattern for names; ``text`` is what stands between the quotes, but for the backslash before a quote."""

    text: str

    @classmethod
    def literal(cls, name: str) -> Glob:
        """The pattern that only this name fits."""
        return cls(re.sub(r"([*?\\])", r"\\\1", name))

    @classmethod
    def read(cls, word: str) -> Glob:
        """From an ask: with its quotes, or bare."""
        if len(word) > 1 and word[0] == word[-1] == '"':
            return cls(word[1:-1].replace('\\"', '"'))
        return cls(word.replace("\\", "\\\\"))

    def __str__(self) -> str:
        return self.text if _BARE.fullmatch(self.text) else self.in_quotes

    @property
    def in_quotes(self) -> str:
        """As it is written within quotes."""
        return '"' + self.text.replace('"', '\\"') + '"'

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        said = {"*": ".*", "?": "."}
        atoms = (said.get(atom) or re.escape(_plain(atom)) for atom in _ATOMS.findall(self.text.casefold()))
        return re.compile("".join(atoms), re.DOTALL)

    @property
    def has_wildcards(self) -> bool:
        """Whether it leaves anything open."""
        return any(atom in ("*", "?") for atom in _ATOMS.findall(self.text))

    @property
    def name(self) -> str:
        """The name it is written for, wildcards as they stand."""
        return "".join(map(_plain, _ATOMS.findall(self.text)))

    def fits(self, name: str) -> bool:
        """Whether a name fits, whatever its case."""
        return self._pattern.fullmatch(name.casefold()) is not None

    def among(self, names: Iterable[str]) -> frozenset[str]:
        """The names that are meant: the one spelt exactly so if there is one, else all that fit in any case."""
        known = frozenset(names)
        if not self.has_wildcards and self.name in known:
            return frozenset({self.name})
        return frozenset(name for name in known if self.fits(name))


def _plain(atom: str) -> str:
    return atom[1:] if len(atom) > 1 else atom


@dataclass(frozen=True)
class SignalGlob:
    """A pattern for signals: ``Message.signal``; without a message (None) a signal of any."""

    message: Glob | None
    signal: Glob

    @classmethod
    def read(cls, word: str) -> SignalGlob:
        """From an ask: names with a point between, each bare or in quotes; bare ones are parted at the last point."""
        parts = re.findall(r'"(?:\\.|[^"\\])*"|[^"]+', word, re.DOTALL)
        if not any(part.startswith('"') for part in parts):
            of_message, dot, of_signal = word.rpartition(".")
            return cls(Glob.read(of_message) if dot else None, Glob.read(of_signal))
        if len(parts) == 3 and parts[1] == ".":
            return cls(Glob.read(parts[0]), Glob.read(parts[2]))
        if len(parts) == 2 and parts[0].endswith("."):
            return cls(Glob.read(parts[0][:-1]), Glob.read(parts[1]))
        if len(parts) == 2 and parts[1].startswith("."):
            return cls(Glob.read(parts[0]), Glob.read(parts[1][1:]))
        return cls(None, Glob.read(word))

    @classmethod
    def literal(cls, message: str, signal: str) -> SignalGlob:
        """The pattern that only this signal fits."""
        return cls(Glob.literal(message), Glob.literal(signal))

    def __str__(self) -> str:
        parts = [part for part in (self.message, self.signal) if part is not None]
        return ".".join(part.text if _DOTLESS.fullmatch(part.text) else part.in_quotes for part in parts)

    def fits(self, message: str, signal: str) -> bool:
        """Whether a signal of a message fits."""
        return (self.message is None or self.message.fits(message)) and self.signal.fits(signal)


def quoted(text: str) -> str:
    """A text in the quotes of an ask."""
    return '"' + re.sub(r'(["\\])', r"\\\1", text) + '"'


def unquoted(word: str) -> str:
    """The inverse of `quoted`; a bare word is itself."""
    if len(word) > 1 and word[0] == word[-1] == '"':
        return re.sub(r'\\(["\\])', r"\1", word[1:-1])
    return word
