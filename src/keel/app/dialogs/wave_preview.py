"""Before volts in a text are imported: its columns as they lie, and the channels as they would be read."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from textual.app import ComposeResult
from textual.binding import Binding
from textual.screen import Screen

from keel.app.dialogs.file_columns import LINES, Column, paint_columns, paint_keys, paint_title
from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.errors import InputError
from keel.formats.wave_text import parse_wave_text, shape_of
from keel.model.safe_text import plain
from keel.model.waveform import Analog, Channel, Logic

KEYS = (("← →", "column"), ("enter", "import"), ("esc", "leave"))
NAME, SHOWN = 20, 6


class WaveColumns(Sheet):
    """The view."""

    def __init__(self, path: Path, head: bytes) -> None:
        super().__init__(id="preview")
        self.path, self.column = path, 0
        self.shape = shape_of(head, str(path))
        lines = head.decode("utf-8-sig", "replace").split("\n")
        whole = b"\n".join(head.split(b"\n")[:-1]) + b"\n" if len(lines) > LINES else head
        self.channels, self.trouble = _channels(whole)
        # Of a long header its end is shown: names and units stand there.
        begin = max(self.shape.skip - LINES // 2, 0)
        self.above = self.shape.skip - begin
        separator = None if self.shape.separator == " " else self.shape.separator
        self.rows = [line.strip().split(separator) for line in lines[begin : begin + LINES]]

    @property
    def count(self) -> int:
        """How many columns there are."""
        return len(self.shape.names)

    def paint(self, width: int, height: int) -> list[Line]:
        """Columns above, channels below."""
        style, shape = self.palette.style, self.shape
        lines = [self.line(width) for _ in range(height)]
        paint_title(self, lines, "import the waveforms of ", self.path.name)
        lines[2].put(2, "as the file has it; what each column holds stands above it", style("dim"))
        holds = [Column("time" if n == 0 and shape.has_time else "channel") for n in range(self.count)]
        paint_columns(self, lines, holds, self.rows, self.above, self.column)
        below = 6 + LINES
        lines[below].put(2, "as it would be read", style("dim"))
        at = below + 1
        for channel in self.channels[: max(height - at - 5, 1)]:
            lines[at].put(2, plain(channel.name, NAME), style("strong", bold=True), NAME - 1)
            lines[at].put(2 + NAME, _sentence(channel), style("text"), width - NAME - 3)
            at += 1
        for sentence in (self.trouble, *(self.channels[0].notes if self.channels else ())):
            if sentence and at < height - 4:
                lines[at].put(2, sentence, style("coral"), width - 3)
                at += 1
        names = {";": "semicolon", "\t": "tab", ",": "comma", " ": "blank"}
        times = "times in the first column" if shape.has_time else f"a sample each {words.length(round(shape.step_ns))}"
        comma = " · decimal comma" if shape.comma else ""
        lies = f"{names[shape.separator]}-separated" if self.count > 1 else "one column"
        lines[-3].put(2, f"{lies}{comma} · {times}", style("slate"))
        paint_keys(self, lines, KEYS)
        return lines


def _channels(head: bytes) -> tuple[list[Channel], str]:
    """The channels of the first lines; or why there are none."""
    try:
        return parse_wave_text(np.frombuffer(head, np.uint8)), ""
    except InputError as error:
        return [], plain(str(error))


def _sentence(channel: Channel) -> str:
    wave = channel.wave
    if isinstance(wave, Logic):
        return f"levels, {len(wave.edges)} edges in the first lines"
    assert isinstance(wave, Analog)
    volts = wave.volts(0, SHOWN)
    first = "  ".join(f"{value:.4g}" for value in volts)
    return f"volts, a sample each {words.length(round(wave.step))}: {first} …"


class WavePreview(Screen[bool | None]):
    """Shows how volts in a text would be read; gives back whether they are to be imported."""

    DEFAULT_CSS = "WavePreview { background: $background; }"
    BINDINGS: ClassVar[list[Any]] = [
        Binding(key, f"key('{key}')", show=False, priority=True) for key in ("left", "right", "enter", "escape", "q")
    ]

    def __init__(self, path: Path, head: bytes) -> None:
        """``head`` are the first bytes of the file."""
        super().__init__()
        self.preview = WaveColumns(path, head)

    def compose(self) -> ComposeResult:
        """The view."""
        yield self.preview

    def action_key(self, key: str) -> None:
        """A key was pressed."""
        view = self.preview
        if key in ("left", "right"):
            view.column = min(max(view.column + (1 if key == "right" else -1), 0), view.count - 1)
            view.repaint()
        elif key == "enter" and view.channels:
            self.dismiss(True)
        elif key in ("escape", "q"):
            self.dismiss(False)
