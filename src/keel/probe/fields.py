"""The fields of frames over their waveform, found when somebody looks at them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

from keel.lines.bits import NOTHING, Close, bits_of_wire, bits_of_wires
from keel.lines.clocked import Wire
from keel.lines.code import Field, How
from keel.lines.codes import CODES, EVERY
from keel.lines.together import CLOCKED
from keel.media.every import ends_of
from keel.model.frames import FrameBatch
from keel.model.waveform import Logic
from keel.probe.stored import levels_read, line_of, wires_read
from keel.store.recording import Snapshot


class Explainer:
    """Says of what fields the frames of a recording are made; of those that were decoded from a waveform."""

    def __init__(self, snapshot: Snapshot) -> None:
        self._snapshot = snapshot
        self._levels = lru_cache(maxsize=16)(self._read)
        self._wires = lru_cache(maxsize=16)(self._read_wires)

    def _read(self, bus: int) -> Logic:
        line = line_of(self._snapshot.manifest, bus)
        assert line is not None
        return levels_read(self._snapshot, line)

    def _read_wires(self, bus: int) -> list[Wire]:
        line = line_of(self._snapshot.manifest, bus)
        assert line is not None
        return wires_read(self._snapshot, line)

    def fields(self, bus: int, start: int, end: int, form: int) -> list[Field] | None:
        """The fields of a frame by its bus, begin and end in ns, and form; None where it has no waveform.

        Raises:
            RecordingError: the waveform cannot be read.
        """
        line = line_of(self._snapshot.manifest, bus)
        if line is None or line.code not in EVERY:
            return None
        if line.code in CLOCKED:
            how = How(line.how, line.settings)
            return CLOCKED[line.code].explain(self._wires(bus), how, start, end, form)
        return CODES[line.code].explain(self._levels(bus), How(line.how, line.settings), start, end)

    def close(self, bus: int, fields: Sequence[Field]) -> Close:
        """The bits of a frame, and the bytes inside its data.

        Raises:
            RecordingError: the waveform cannot be read.
        """
        line = line_of(self._snapshot.manifest, bus)
        if line is None or line.code not in EVERY:
            return NOTHING
        how = How(line.how, line.settings)
        if line.code in CLOCKED:
            return bits_of_wires(self._wires(bus), how, fields)
        return bits_of_wire(line.code, self._levels(bus), how, fields)

    def rows(self, batch: FrameBatch) -> list[dict[str, Any]]:
        """``raw`` and ``fields`` of each frame, as ``frames --fields`` has them."""
        manifest = self._snapshot.manifest
        carries = {line.bus: line.code in EVERY and EVERY[line.code].carries_bytes for line in manifest.lines}
        found = []
        ends = ends_of(batch, manifest.buses)
        columns = (batch.bus.tolist(), batch.form.tolist(), batch.time.tolist())
        for bus, form, time, end in zip(*columns, ends, strict=True):
            fields = self.fields(bus, time, time if end is None else end, form)
            raw = b"".join(field.raw for field in fields or ()).hex().upper() if carries.get(bus) else None
            found.append({"raw": raw, "fields": None if fields is None else [field.to_json() for field in fields]})
        return found
