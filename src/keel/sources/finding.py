"""What there is to record from."""

from __future__ import annotations

import logging

from keel.sources.kind import Offer
from keel.sources.registry import KINDS


def what_is_there() -> list[Offer]:
    """The sources of the machine, kind by kind; what fails to be looked at is left out."""
    found: list[Offer] = []
    for kind in KINDS.values():
        try:
            found += kind.there()
        except (OSError, ImportError):
            logging.getLogger("keel").exception("sources of a kind cannot be listed")
    return found
