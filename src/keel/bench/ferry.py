"""The ferry as a source of frames: physics to payloads, payloads to the bus, faults on the way.

The same seed and the same settings at the same times give the same frames, however time is cut into steps.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from keel.bench.controls import BY_NAME, CONTROLS
from keel.bench.messages import BUSES, PLANS, Plan
from keel.bench.others import OTHER_BUSES, OtherLines
from keel.bench.payloads import Moments, encode
from keel.bench.physics import STEP_S, Boat, Track
from keel.errors import ControlError
from keel.lines.can import with_wire_bits
from keel.model.bus import wire_ns
from keel.model.faults import Fault
from keel.model.frames import Flag, FrameBatch, batch_of, concat, empty_batch, replace_columns
from keel.model.units import NS_PER_S

STEP_NS = int(STEP_S * NS_PER_S)
HOLD_NS = 25_000_000
"""Jitter may move a frame by less than this: later frames wait until all before them are known."""
DROP_OUT_NS = 1_300_000_000
BURST_NS = 450_000_000
BURST_SHARE = 0.16
STUFF_SHARE = 0.1
MOST_STEPS = 100


@dataclass
class _Sender:
    """One message: how many frames it has sent, and its own chance."""

    plan: Plan
    phase_ns: int
    rng: np.random.Generator
    sent: int = 0
    next_due: int = 0

    def due(self, k: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """Planned times of the k-th frames, without jitter."""
        cycle = int(self.plan.cycle_ms * 1_000_000)
        spacing = int(self.plan.spacing_ms * 1_000_000)
        return self.phase_ns + (k // self.plan.burst) * cycle + (k % self.plan.burst) * spacing


ASKS_ON_NS = 30 * NS_PER_S
"""So long the shore link's partner waits for an answer that does not come."""


class Ferry:
    """*Tern*, sailing. Times start at ``start_ns``.

    Attributes:
        buses: Her buses, in the order of their indices: the two of CAN, and the others if they sail along.
    """

    def __init__(self, seed: int = 1, start_ns: int = 1_767_225_600 * NS_PER_S, *, with_others: bool = False) -> None:
        """Cast off.

        Args:
            seed: The voyage.
            start_ns: When, in ns since 1970.
            with_others: Whether crew tags, ticket terminal and depth sounder are heard, too.
        """
        self.start_ns = start_ns
        self.buses = [*BUSES, *(OTHER_BUSES if with_others else ())]
        self._others = OtherLines(seed) if with_others else None
        self._late = empty_batch()
        self.controls = {control.name: control.default for control in CONTROLS}
        self._boat = Boat(seed)
        self._steps = 0
        self._pending = empty_batch()
        self._free_at = [0] * len(BUSES)
        self._burst = (0, 0)
        self._pulled = -ASKS_ON_NS
        self._drops: list[tuple[int, int]] = []
        self._chance = np.random.default_rng([seed, 1])
        self._drop_chance = np.random.default_rng([seed, 3])
        self._next_drop = int((50 + 40 * self._drop_chance.random()) * NS_PER_S)
        self._senders = []
        for i, plan in enumerate(PLANS):
            rng = np.random.default_rng([seed, 2, plan.ident])
            phase = int(rng.random() * min(plan.cycle_ms, 100) * 1_000_000) + i * 70_000 + HOLD_NS
            self._senders.append(_Sender(plan, phase, rng))

    @property
    def elapsed_s(self) -> float:
        """Seconds sailed."""
        return self._steps * STEP_S

    def set(self, name: str, value: str) -> None:
        """Work a control.

        Raises:
            ControlError: there is no such control, or it does not take the value.
        """
        if name not in BY_NAME:
            raise ControlError(f"no control is called “{name}”")
        value = BY_NAME[name].check(value)
        now = self._steps * STEP_NS
        if name == "fault-trim":
            if value == "now":
                self._drops.append((now, now + DROP_OUT_NS))
            return
        if name == "shore" and value == "unplugged" and self.controls[name] != value:
            self._pulled = now
        starts = name == "thruster" and value != "off" and self.controls[name] != value
        if starts and self.controls["fault-thruster"] == "on":
            self._burst = (now, now + BURST_NS)
        self.controls[name] = value

    def advance(self, seconds: float) -> FrameBatch:
        """Sail on; the frames that were sent meanwhile, in order of time."""
        end = self._steps + max(round(seconds / STEP_S), 0)
        batches = []
        while self._steps < end:
            batches.append(self._stretch(min(end - self._steps, MOST_STEPS)))
        return concat([batch for batch in batches if len(batch)])

    def _stretch(self, steps: int) -> FrameBatch:
        begin = self._steps * STEP_NS
        track = self._boat.track(steps, self.controls)
        self._steps += steps
        end = self._steps * STEP_NS
        while self._next_drop < end:
            self._drops.append((self._next_drop, self._next_drop + DROP_OUT_NS))
            self._next_drop += int((80 + 60 * self._drop_chance.random()) * NS_PER_S)
        made = [self._send(sender, track, begin, end) for sender in self._senders]
        waiting = concat([self._pending, *(b for b in made if len(b))])
        waiting = waiting.take(np.argsort(waiting.time, kind="stable"))
        ready = int(np.searchsorted(waiting.time, end - HOLD_NS))
        self._pending = waiting.slice(ready, len(waiting))
        batch = self._corrupt(waiting.slice(0, ready))
        batch = self._on_the_wire(with_wire_bits(batch))
        batch = replace_columns(batch, time=batch.time + self.start_ns)
        return batch if self._others is None else self._with_others(batch, self._others, begin, end)

    def _with_others(self, batch: FrameBatch, others: OtherLines, begin: int, end: int) -> FrameBatch:
        """What is sent on the other lines beside it, in order of time; what is late waits for the next stretch."""
        waiting = concat([self._late, others.between(begin, end, len(BUSES), self.start_ns)])
        waiting = waiting.take(np.argsort(waiting.time, kind="stable"))
        ready = int(np.searchsorted(waiting.time, self.start_ns + end - HOLD_NS))
        self._late = waiting.slice(ready, len(waiting))
        both = [part for part in (batch, waiting.slice(0, ready)) if len(part)]
        if len(both) < 2:
            return concat(both)
        whole = concat(both)
        return whole.take(np.argsort(whole.time, kind="stable"))

    def _send(self, sender: _Sender, track: Track, begin: int, end: int) -> FrameBatch:
        plan = sender.plan
        if sender.next_due >= end:
            return empty_batch()
        most = (int((end - begin) / (plan.cycle_ms * 1_000_000)) + 2) * plan.burst + plan.burst
        k = sender.sent + np.arange(most)
        due = sender.due(k)
        count = int(np.searchsorted(due, end))
        sender.next_due = int(due[count])
        k, due = k[:count], due[:count]
        sender.sent += count
        jitter = np.clip(sender.rng.standard_normal(count) * plan.jitter_ms, -20, 20)
        times = due + (jitter * 1_000_000).astype(np.int64)
        step = np.clip((due - begin) // STEP_NS, 0, len(track["time_s"]) - 1)
        payloads = encode(plan, Moments(track, step), k)
        if plan.name == "PodStarFeedback" and self.controls["fault-sum"] == "on":
            payloads[k % 1000 == 617, 7] ^= 0x5A
        flags = int(Flag.FD | Flag.BRS) if plan.fd else 0
        bus = 0 if plan.bus == "A" else 1
        batch = batch_of(times, plan.ident, payloads, bus=bus, form=plan.form, flags=flags)
        if plan.name == "TrimTabs":
            return batch.take(np.flatnonzero(~self._is_dropped(due)))
        if plan.name in ("ShoreLink", "ShorePartner") and self.controls["shore"] == "unplugged":
            # At sea both are silent. Pulled while it was in use, the partner goes on asking for a while.
            asking = (due < self._pulled + ASKS_ON_NS) & (plan.name == "ShorePartner")
            return _unacknowledged(batch.take(np.flatnonzero(asking)))
        return batch

    def _is_dropped(self, due: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
        dropped = np.zeros(len(due), np.bool_)
        for start, end in self._drops[-4:]:
            dropped |= (due >= start) & (due < end)
        return dropped

    def _corrupt(self, batch: FrameBatch) -> FrameBatch:
        """While the thruster starts, some frames on bus A are destroyed and sent again."""
        exposed = (batch.bus == 0) & (batch.faults == 0)
        exposed &= (batch.time >= self._burst[0]) & (batch.time < self._burst[1])
        if not exposed.any():
            return batch
        chance = np.ones((len(batch), 2))
        chance[exposed] = self._chance.random((int(exposed.sum()), 2))
        rows = np.sort(np.concatenate([np.arange(len(batch)), np.flatnonzero(chance[:, 0] < BURST_SHARE)]))
        doubled = batch.take(rows)
        first = np.zeros(len(rows), np.bool_)
        first[:-1] = rows[:-1] == rows[1:]
        faults = np.where(first, np.uint32(Fault.CRC), doubled.faults)
        stuffed = first & (chance[rows, 1] < STUFF_SHARE)
        faults = np.where(stuffed, np.uint32(Fault.STUFF), faults).astype(np.uint32)
        flags = np.where(first, doubled.flags | np.uint16(Flag.ERROR), doubled.flags)
        data = doubled.data.copy()
        broken = doubled.offsets[:-1][first]
        data[broken] ^= np.uint8(0x40)
        return replace_columns(doubled, faults=faults, flags=flags.astype(np.uint16), data=data)

    def _on_the_wire(self, batch: FrameBatch) -> FrameBatch:
        """Frames wait until the bus is free: none begins before the one before it has ended."""
        times = batch.time.copy()
        lengths = np.ceil(wire_ns(batch.bus, batch.bits, batch.fast_bits, BUSES)).astype(np.int64)
        for bus in range(len(BUSES)):
            rows = np.flatnonzero(batch.bus == bus)
            if not len(rows):
                continue
            # A destroyed frame took its own time on the wire besides the error frame that ended it.
            took = np.cumsum(lengths[rows]) - lengths[rows]
            start = took + np.maximum.accumulate(np.maximum(times[rows], self._free_at[bus]) - took)
            times[rows] = start
            self._free_at[bus] = int(start[-1] + lengths[rows][-1])
        order = np.argsort(times, kind="stable")
        return replace_columns(batch, time=times).take(order)


def _unacknowledged(batch: FrameBatch) -> FrameBatch:
    """Three tries for each frame, none acknowledged."""
    again = batch.take(np.repeat(np.arange(len(batch)), 3))
    times = again.time + np.tile(np.arange(3) * 400_000, len(batch))
    faults = np.full(len(again), int(Fault.ACK), np.uint32)
    return replace_columns(again, time=times, faults=faults, flags=again.flags | np.uint16(Flag.ERROR))
