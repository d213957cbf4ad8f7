"""The ask: one language for what frames must meet. `parse` reads it, `Matcher` runs it over columns."""

from keel.ask.language import parse
from keel.ask.matches import Matcher, Matches

__all__ = ["Matcher", "Matches", "parse"]
