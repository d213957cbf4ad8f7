"""Where a random vehicle puts its quantities: messages, fields, counters, checksums, pages, unused bits."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from benchmarks.vehicles.world import Quantity, Rng, World
from keel.model.fields import BitField, Order, next_bit_down
from keel.model.identity import Form, pack_key

CHECKSUMS = ("xor", "xor_id", "sum", "sum_inverted", "sum_id", "crc8", "crc8_id", "crc8_j1850", "e2e_1", "e2e_2")


@dataclass(eq=False)
class Placed:
    """A field of a message: what it carries, and how."""

    field: BitField
    kind: str
    quantity: str = ""
    scale: float = 1.0
    offset: float = 0.0
    page: int | None = None
    algorithm: str = ""
    text: bytes = b""


@dataclass(eq=False)
class Layout:
    """A message of the vehicle."""

    key: int
    bytes: int
    cycle_s: float
    event: bool
    jitter: float
    fill: int
    placed: list[Placed] = field(default_factory=list)
    secret: int = 0
    poly: int = 0x1D
    data_ids: tuple[int, ...] = ()

    @property
    def selector(self) -> Placed | None:
        """The selector, if the message has pages."""
        return next((p for p in self.placed if p.kind == "selector"), None)

    def of_kind(self, kind: str) -> Placed | None:
        """The first field of a kind."""
        return next((p for p in self.placed if p.kind == kind), None)


class _Board:
    """Which bits of a payload are still free."""

    def __init__(self, size: int) -> None:
        self.free = np.ones(size * 8, bool)

    def take(self, rng: Rng, length: int, order: Order, aligned: float) -> BitField | None:
        """A free place for a field, or None."""
        bits = len(self.free)
        beside = rng.random() < 0.5
        for _ in range(30):
            if beside and not self.free.all():
                # Right after a field that is there already: nothing between the two tells them apart.
                taken = np.flatnonzero(~self.free)
                bit = int(taken[rng.integers(len(taken))])
                start = bit + 1 if order == "little" else next_bit_down(bit)
                if not 0 <= start < bits:
                    continue
            elif rng.random() < aligned:
                start = int(rng.integers(0, max(bits // 8, 1))) * 8 + (7 if order == "big" else 0)
            else:
                start = int(rng.integers(0, bits))
            place = BitField(start, length, order)
            if min(place.bits) < 0 or max(place.bits) >= bits or not self.free[list(place.bits)].all():
                continue
            self.free[list(place.bits)] = False
            return place
        return None


def lay_out(rng: Rng, world: World) -> list[Layout]:
    """Messages for the quantities of a vehicle, 30 to 70 identifiers."""
    count = int(rng.integers(30, 71))
    base_order: Order = "big" if rng.random() < 0.5 else "little"
    mixing = rng.choice([0.0, 0.0, 0.3])
    extended = rng.random() < 0.3
    idents = rng.choice(np.arange(0x60, 0x7F0), count, replace=False)
    messages = []
    for ident in sorted(idents.tolist()):
        size = int(rng.choice([8, 8, 8, 8, 7, 6, 5, 4, 3, 2, 16, 24])) if rng.random() < 0.6 else 8
        bus = int(rng.random() < 0.35)
        key = pack_key(bus, Form.EXTENDED if extended else Form.BASE, 0x18FE0000 + ident if extended else ident)
        event = rng.random() < 0.15
        cycle = float(rng.choice([0.01, 0.02, 0.02, 0.05, 0.1, 0.1, 0.2, 0.5, 1.0]))
        messages.append(
            Layout(
                key,
                size,
                cycle,
                event,
                float(rng.uniform(0, 0.06)),
                int(rng.choice([0, 0, 1])),
                secret=int(rng.integers(1, 256)),
                poly=int(rng.choice([0x1D, 0x2F, 0x07, 0x31, 0x9B, 0x39, 0xD5])),
                data_ids=tuple(rng.integers(0, 256, 16).tolist()),
            )
        )
    quantities = list(world.quantities.values())
    values = [q for q in quantities if q.kind == "value"]
    waiting: list[Quantity] = [*quantities]
    for _ in range(int(rng.integers(2, 30))):
        waiting.append(values[int(rng.integers(len(values)))])  # gateway copies
    rng.shuffle(waiting)
    boards = []
    for message in messages:
        boards.append(_prepare(rng, message, base_order))
    per = int(np.ceil(len(waiting) / len(messages)))
    other: Order = "little" if base_order == "big" else "big"

    def order_of() -> Order:
        return base_order if rng.random() >= mixing else other

    while waiting:
        quantity = waiting.pop()
        for at in rng.permutation(len(messages))[:25]:
            message, (board, pages) = messages[at], boards[at]
            if len(message.placed) > per + 4 + len(pages) * 2:
                continue
            page = int(rng.choice(list(pages))) if pages and rng.random() < 0.8 else None
            where = pages[page] if page is not None else board
            if where is board and pages:
                continue
            placed = _place(rng, quantity, where, order_of())
            if placed is not None:
                placed.page = page
                message.placed.append(placed)
                break
    for message, (board, _) in zip(messages, boards, strict=True):
        if len(message.placed) < 2:
            _fill(rng, message, board, values, order_of())
    return messages


def _prepare(rng: Rng, message: Layout, order: Order) -> tuple[_Board, dict[int, _Board]]:
    board = _Board(message.bytes)
    last = message.bytes - 1

    def fixed(start: int, length: int, kind: str, algorithm: str = "") -> None:
        place = BitField(start, length, "little")
        board.free[list(place.bits)] = False
        message.placed.append(Placed(place, kind, algorithm=algorithm))

    guarded = rng.random() < 0.4 and message.bytes >= 4
    if guarded:
        algorithm = str(rng.choice(CHECKSUMS))
        first = rng.random() < 0.35 or algorithm.startswith("e2e")
        at = 0 if first else last
        length = 4 if algorithm in ("xor", "sum") and rng.random() < 0.2 else 8
        fixed(at * 8, length, "checksum", algorithm)
        if rng.random() < 0.85 or algorithm == "e2e_2":
            beside = 1 if first else last - 1
            size = 4 if algorithm.startswith("e2e") else int(rng.choice([2, 3, 4, 4, 4, 8]))
            fixed(
                (at if length == 4 and size <= 4 else beside) * 8 + (4 if length == 4 and size <= 4 else 0),
                size,
                "counter",
            )
    elif rng.random() < 0.3:
        size = int(rng.choice([2, 4, 4, 8]))
        fixed(int(rng.integers(0, message.bytes)) * 8 + int(rng.choice([0, 8 - size])), size, "counter")
    pages: dict[int, _Board] = {}
    if rng.random() < 0.12 and message.bytes == 8 and not guarded:
        size = int(rng.choice([2, 4, 8]))
        if board.free[:size].all():
            fixed(0, size, "selector")
            most = min(1 << size, 8)
            chosen = range(int(rng.integers(2, most + 1)))
            for page in chosen:
                pages[page] = _Board(message.bytes)
                pages[page].free[:] = board.free
    return board, pages


def _place(rng: Rng, quantity: Quantity, board: _Board, order: Order) -> Placed | None:
    if quantity.kind == "flag":
        place = board.take(rng, 1, "little", 0.0)
        return Placed(place, "flag", quantity.name) if place else None
    if quantity.kind == "enum":
        length = max(int(np.ceil(np.log2(quantity.reach[1] + 1))), 2) + int(rng.random() < 0.3)
        place = board.take(rng, length, "little", 0.0)
        if place is None or place.start // 8 != max(place.bits) // 8:
            return None
        return Placed(place, "value", quantity.name)
    scale = float(rng.choice(quantity.steps))
    offset = float(rng.choice(quantity.offsets))
    low, high = (quantity.reach[0] - offset) / scale, (quantity.reach[1] - offset) / scale
    signed = low < 0
    if not signed and rng.random() < 0.1 and low == 0:
        signed = True
    need = max(int(np.ceil(np.log2(max(abs(low), high) + 1))) + signed, 4)
    # Usual widths, or just what is needed.
    usual = [w for w in (8, 10, 12, 16, 24, 32) if w >= need]
    length = usual[0] if usual and rng.random() < 0.7 else min(need + int(rng.integers(0, 3)), 32)
    place = board.take(rng, length, order, 0.55)
    if place is None:
        return None
    place = BitField(place.start, length, order, signed)
    return Placed(place, "value", quantity.name, scale, offset)


def _fill(rng: Rng, message: Layout, board: _Board, values: list[Quantity], order: Order) -> None:
    """Something for a message nobody wanted: a copy, or text."""
    if message.bytes >= 6 and rng.random() < 0.15 and board.free.all():
        text = bytes(rng.integers(0x41, 0x5B, message.bytes * 4).tolist())
        for at in range(message.bytes):
            board.free[at * 8 : at * 8 + 8] = False
        message.placed.append(Placed(BitField(0, min(message.bytes * 8, 64), "little"), "text", text=text))
        return
    for _ in range(3):
        placed = _place(rng, values[int(rng.integers(len(values)))], board, order)
        if placed is not None:
            message.placed.append(placed)
            return
