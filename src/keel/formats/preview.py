"""The first frames of a file as they would be read."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from keel.formats.delimited import DelimitedParser, layout_of
from keel.formats.layout import Layout
from keel.formats.reader import Account
from keel.formats.registry import recognise
from keel.model.frames import FrameBatch, concat, empty_batch

HEAD_BYTES = 1 << 16


def first_frames(path: Path, layout: Layout | None = None, most: int = 20) -> tuple[FrameBatch, Account]:
    """The first frames, and what was skipped to get them.

    Raises:
        InputError: the file cannot be read so.
    """
    account = Account()
    with path.open("rb") as file:
        head = file.read(HEAD_BYTES)
        final = not file.read(1)
    first = np.frombuffer(head, np.uint8)
    if layout is None:
        known, _ = recognise(path)
        if known.name == "delimited text":
            layout = layout_of(path)
    if layout is not None:
        batches = (
            [] if layout.problem() else DelimitedParser(account, layout).feed(np.frombuffer(head, np.uint8), final)[0]
        )
    elif known.parser is not None:
        batches = known.parser(account).feed(first, final)[0]
    else:
        batches = [next(iter(known.read(path, account, lambda *_: None)), empty_batch())]
    whole = concat(batches)
    return whole.slice(0, min(most, len(whole))), account
