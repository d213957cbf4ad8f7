"""Before volts are imported: columns as they lie, channels as they would be read, keys to correct how that is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from textual.app import ComposeResult
from textual.binding import Binding
from textual.screen import Screen

from keel.app.dialogs.ask_text import AskText
from keel.app.dialogs.file_columns import LINES, Column, paint_columns, paint_keys, paint_title
from keel.app.paint import words
from keel.app.paint.canvas import Line, Sheet
from keel.errors import InputError
from keel.formats import wav
from keel.formats.wave_taken import AS_FOUND, Taken, parse_taken, scaled
from keel.formats.wave_text import Shape, channel_names, parse_wave_text, shape_of, unit_of
from keel.model.safe_text import plain
from keel.model.waveform import Analog, Channel, Logic

OF_ALL = (("← →", "column"), ("g", "gain"), ("o", "offset"))
OF_TEXT = (("u", "unit"), ("t", "times?"), ("i", "interval"), ("s", "separator"), ("d", "decimal comma"),
           ("h H", "header lines"))  # fmt: skip
ENDS = (("enter", "import"), ("esc", "leave"))
SEPARATORS = {";": "semicolon", "\t": "tab", ",": "comma", " ": "blank"}
TIME_UNITS, VOLT_UNITS = ("s", "ms", "us", "ns"), ("V", "mV", "uV", "kV")
NAME, SHOWN = 20, 6


class WaveColumns(Sheet):
    """The view."""

    def __init__(self, path: Path, head: bytes) -> None:
        super().__init__(id="preview")
        self.path, self.column, self.taken = path, 0, AS_FOUND
        self._head = head
        self.is_text = wav.recognises(head) is None
        self.shape: Shape | None = None
        self.channels: list[Channel] = []
        self.trouble = ""
        self._read()

    def _read(self) -> None:
        """Read the first lines as they are taken now."""
        try:
            if self.is_text:
                self.shape = shape_of(self._head, self.path.name, self.taken)
                lines = self._head.split(b"\n")
                whole = b"\n".join(lines[:-1]) + b"\n" if len(lines) > LINES else self._head
                found = parse_wave_text(np.frombuffer(whole, np.uint8), self.path.name, taken=self.taken)
            else:
                found = wav.read_wav(self.path)
            self.channels, self.trouble = scaled(found, self.taken), ""
        except InputError as error:
            self.channels, self.trouble = [], plain(str(error))
        self.column = min(self.column, max(self.count - 1, 0))

    @property
    def count(self) -> int:
        """How many columns there are: of a text its own, else the channels."""
        return len(self.shape.names) if self.shape is not None else len(self.channels)

    @property
    def in_hand(self) -> str | None:
        """The name of the channel in hand; None of the column of times."""
        if self.shape is not None:
            return channel_names(self.shape)[self.column]
        return self.channels[self.column].name if self.channels else None

    def change(self, **to: Any) -> None:
        """Take the file otherwise."""
        self.taken = replace(self.taken, **to)
        self._read()
        self.repaint()

    def turn_unit(self) -> None:
        """The next unit of the column in hand."""
        if self.shape is None:
            return
        name = self.in_hand
        now = unit_of(self.shape, self.column, self.taken)
        if name is None:
            self.change(time_unit=_next(TIME_UNITS, now))
        else:
            self.change(volt_units={**self.taken.volt_units, name: _next(VOLT_UNITS, now)})

    def paint(self, width: int, height: int) -> list[Line]:
        """Columns above, channels below."""
        style = self.palette.style
        lines = [self.line(width) for _ in range(height)]
        paint_title(self, lines, "import the waveforms of ", self.path.name)
        at = 2
        if self.shape is not None:
            self._paint_text(lines, self.shape)
            at = 6 + LINES
        lines[at].put(2, "as it would be read", style("dim"))
        at += 1
        for place, channel in enumerate(self.channels[: max(height - at - 5, 1)]):
            is_held = channel.name == self.in_hand if self.is_text else place == self.column
            if is_held:
                lines[at].put(0, "▌", style("brass"))
            lines[at].put(2, plain(channel.name, NAME), style("strong", bold=True), NAME - 1)
            lines[at].put(2 + NAME, _sentence(channel), style("text"), width - NAME - 3)
            at += 1
        for sentence in (self.trouble, *(self.channels[0].notes if self.channels else ())):
            if sentence and at < height - 4:
                lines[at].put(2, sentence, style("coral"), width - 3)
                at += 1
        lines[-3].put(2, self._lies(), style("slate"), width - 3)
        paint_keys(self, lines, (*OF_ALL, *(OF_TEXT if self.is_text else ()), *ENDS))
        return lines

    def _paint_text(self, lines: list[Line], shape: Shape) -> None:
        lines[2].put(2, "as the file has it; what each column holds stands above it", self.palette.style("dim"))
        texts = self._head.decode("utf-8-sig", "replace").split("\n")
        # Of a long header its end is shown: names and units stand there.
        begin = max(shape.skip - LINES // 2, 0)
        separator = None if shape.separator == " " else shape.separator
        rows = [line.strip().split(separator) for line in texts[begin : begin + LINES]]
        names = channel_names(shape)
        holds = []
        for place, name in enumerate(names):
            unit = unit_of(shape, place, self.taken)
            holds.append(Column(f"time {unit}" if name is None else f"channel {unit}"))
        paint_columns(self, lines, holds, rows, shape.skip - begin, self.column)

    def _lies(self) -> str:
        """How the file is taken, in words: what was found, and what was set."""
        parts = []
        shape = self.shape
        if shape is not None:
            parts.append(f"{SEPARATORS[shape.separator]}-separated" if self.count > 1 else "one column")
            parts += ["decimal comma"] if shape.comma else []
            interval = f"a sample each {words.length(shape.step_ns)}" if shape.step_ns else "no times, no interval: i"
            times = f"times in {unit_of(shape, 0, self.taken)} in the first column"
            parts.append(times if shape.has_time else interval)
            parts.append(f"{shape.skip} lines ahead of the numbers")
        elif self.channels:
            parts.append("WAV, full scale is 1 V")
        name = self.in_hand
        if name is not None:
            gain, offset = self.taken.gains.get(name, 1.0), self.taken.offsets.get(name, 0.0)
            parts += [f"{plain(name, NAME)} x {gain:g}"] if gain != 1.0 else []
            parts += [f"{plain(name, NAME)} + {offset:g} V"] if offset else []
        return " · ".join(parts)


def _next(units: tuple[str, ...], now: str) -> str:
    """The unit behind one; the first behind what is none of them."""
    lower = [unit.lower() for unit in units]
    return units[(lower.index(now.lower()) + 1) % len(units)] if now.lower() in lower else units[0]


def _sentence(channel: Channel) -> str:
    wave = channel.wave
    if isinstance(wave, Logic):
        return f"levels, {len(wave.edges)} edges in the first lines"
    assert isinstance(wave, Analog)
    volts = wave.volts(0, SHOWN)
    first = "  ".join(f"{value:.4g}" for value in volts)
    return f"volts, a sample each {words.length(round(wave.step))}: {first} …"


class WavePreview(Screen[Taken | None]):
    """Shows how volts would be read; gives back how the file is taken, or None if the person leaves."""

    DEFAULT_CSS = "WavePreview { background: $background; }"
    BINDINGS: ClassVar[list[Any]] = [
        Binding(key, f"key('{key}')", show=False, priority=True)
        for key in ("left", "right", "u", "t", "i", "s", "d", "h", "H", "g", "o", "enter", "escape", "q")
    ]

    def __init__(self, path: Path, head: bytes) -> None:
        """``head`` are the first bytes of the file."""
        super().__init__()
        self.preview = WaveColumns(path, head)

    def compose(self) -> ComposeResult:
        """The view."""
        yield self.preview

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Keys are those of a question as long as one is asked."""
        return self.app.screen is self

    def action_key(self, key: str) -> None:
        """A key was pressed."""
        view = self.preview
        if key in ("left", "right"):
            view.column = min(max(view.column + (1 if key == "right" else -1), 0), max(view.count - 1, 0))
            view.repaint()
        elif key == "enter" and view.channels:
            self.dismiss(view.taken)
        elif key in ("escape", "q"):
            self.dismiss(None)
        elif key in ("g", "o"):
            self._ask_number(key == "g")
        elif view.shape is not None:
            self._of_text(key, view.shape)

    def _of_text(self, key: str, shape: Shape) -> None:
        view = self.preview
        if key == "u":
            view.turn_unit()
        elif key == "t":
            view.change(has_time=not shape.has_time)
        elif key == "s":
            names = list(SEPARATORS)
            view.change(separator=names[(names.index(shape.separator) + 1) % len(names)])
        elif key == "d":
            view.change(comma=not shape.comma)
        elif key in ("h", "H"):
            view.change(skip=max(shape.skip + (1 if key == "h" else -1), 0))
        elif key == "i":
            self._ask("The time from one sample to the next", "with its unit, as 10us", self._interval)

    def _interval(self, text: str) -> None:
        self.preview.change(interval_ns=parse_taken(interval=text).interval_ns, has_time=False)

    def _ask_number(self, is_gain: bool) -> None:
        name = self.preview.in_hand
        if name is None:
            self.app.notify("choose a channel with ← →: times have no gain", timeout=3)
            return

        def typed(text: str) -> None:
            taken = self.preview.taken
            if is_gain:
                said = parse_taken(gains=[text]).gains[""]
                self.preview.change(gains={**taken.gains, name: said})
            else:
                said = parse_taken(offsets=[text]).offsets[""]
                self.preview.change(offsets={**taken.offsets, name: said})

        what = "times which number are volts, as 10" if is_gain else "volts that are added, as -2.5"
        self._ask(f"{'Gain' if is_gain else 'Offset'} of {plain(name, NAME)}", what, typed)

    def _ask(self, title: str, hint: str, then: Callable[[str], None]) -> None:
        """Have something typed; what is none is said."""

        def answered(text: str | None) -> None:
            if text is None:
                return
            try:
                then(text)
            except InputError as error:
                self.app.notify(plain(str(error)), severity="error", timeout=6)

        self.app.push_screen(AskText(title, f"{hint}   enter   esc leave", ""), answered)
