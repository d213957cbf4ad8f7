"""From the ferry's state to payload bytes, whole columns at a time."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from keel.bench.messages import Part, Plan
from keel.bench.physics import Track
from keel.model.fields import insert
from keel.model.frames import Bytes

NOT_AVAILABLE = 255


def _crc8_table() -> Bytes:
    table = np.zeros(256, np.uint8)
    for byte in range(256):
        crc = byte
        for _ in range(8):
            crc = (crc << 1 ^ 0x1D if crc & 0x80 else crc << 1) & 0xFF
        table[byte] = crc
    return table


_CRC8 = _crc8_table()


def crc8(payloads: Bytes) -> Bytes:
    """CRC-8 of each row: polynomial 1D, start FF, result inverted. Source: SAE J1850; check value 4B."""
    crc = np.full(len(payloads), 0xFF, np.uint8)
    for column in payloads.T:
        crc = _CRC8[crc ^ column]
    return ~crc


class Moments:
    """The ferry's state at chosen steps; a column is picked when it is asked for."""

    def __init__(self, track: Track, steps: npt.NDArray[np.int64]) -> None:
        self._track, self._steps = track, steps

    def __getitem__(self, name: str) -> npt.NDArray[np.float64]:
        return self._track[name][self._steps]


def encode(plan: Plan, state: Moments, k: npt.NDArray[np.int64]) -> Bytes:
    """Payloads of the k-th frames of a message, shape (n, bytes).

    Args:
        plan: The message.
        state: The ferry's state when each frame was made up, columns of shape (n,).
        k: Running numbers of the frames, shape (n,).
    """
    payloads = np.zeros((len(k), plan.size), np.uint8)
    payloads[:, : len(plan.fixed)] = np.frombuffer(plan.fixed, np.uint8)
    for part in plan.parts:
        signal = part.signal
        if signal.role == "checksum":
            continue
        if signal.role == "counter":
            values = k % plan.burst + 1 if plan.burst > 1 else k % (1 << signal.field.length)
            insert(signal.field, payloads, values)
        elif signal.role == "selector":
            insert(signal.field, payloads, k % plan.pages)
        else:
            raw = _raw(part, state)
            rows = np.ones(len(k), np.bool_) if not signal.pages else k % plan.pages == signal.pages[0][0]
            chosen = payloads[rows]
            insert(signal.field, chosen, raw[rows])
            payloads[rows] = chosen
    for text_index, text in enumerate(plan.texts):
        payloads[k % plan.burst == text_index, 1:8] = np.frombuffer(text, np.uint8)
    if plan.name == "BowRampPanel":
        payloads[state["panel_dead"] > 0] = (0x3C, 0x00)
    if plan.name == "PackTwoStatus":
        payloads[state["pack2_lost_s"] > 0, 5] = NOT_AVAILABLE
    _add_sums(plan, payloads)
    return payloads


def _raw(part: Part, state: Moments) -> npt.NDArray[np.int64]:
    signal, source = part.signal, part.source
    name, _, what = source.partition("/")
    values = state[name]
    if what == "24":
        # The hotel's supply follows the traction packs, a little.
        values = 24.6 + (values - 640) * 0.004 + 0.08 * np.sin(state["time_s"] * 9.7)
    elif what.startswith("cell"):
        n = int(what[4:])
        values = values / 172 + 0.004 * np.sin(n * 2.1) + 0.001 * np.sin(state["time_s"] / 3 + n)
    raw = np.rint((values - signal.offset) / signal.scale).astype(np.int64)
    length = signal.field.length
    if signal.field.signed:
        return np.clip(raw, -(1 << (length - 1)), (1 << (length - 1)) - 1)
    return np.clip(raw, 0, (1 << length) - 1)


def _add_sums(plan: Plan, payloads: Bytes) -> None:
    for part in plan.parts:
        if part.signal.role != "checksum":
            continue
        byte = part.signal.field.start // 8
        if part.signal.field.length == 8:
            payloads[:, byte] = crc8(np.delete(payloads, byte, axis=1))
        else:
            nibbles = (payloads & 0x0F).sum(axis=1) + (payloads >> 4).sum(axis=1)
            insert(part.signal.field, payloads, (nibbles & 0x0F).astype(np.int64))
