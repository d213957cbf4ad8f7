"""A line read anew as a person says: what is typed, and how that is undone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from keel.errors import InputError

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.store.waveform_entries import LineEntry, WaveformEntry

EXPECTED = "a code (auto, can, uart, spi …), then rate=N[,N], invert=yes|no, threshold=V, or settings as parity=even"


@dataclass
class Said:
    """What was typed: a code and what is set of it."""

    code: str = "auto"
    rates: tuple[float, ...] = ()
    inverted: bool | None = None
    threshold: float | None = None
    settings: dict[str, str] = field(default_factory=dict)

    @property
    def given(self) -> list[str]:
        """What of it was set."""
        named = {
            "code": self.code != "auto", "rate": bool(self.rates), "threshold": self.threshold is not None,
            "polarity": self.inverted is not None,
        }  # fmt: skip
        return [name for name, is_set in named.items() if is_set] + list(self.settings)


def parse_said(text: str) -> Said:
    """What a person typed.

    Raises:
        InputError: it is not to be understood.
    """
    from keel.lines.codes import EVERY

    said = Said()
    for place, word in enumerate(text.split()):
        name, equals, value = word.partition("=")
        name = name.lower()
        try:
            if not equals and place == 0 and name in (*EVERY, "auto"):
                said.code = name
            elif name == "rate":
                said.rates = tuple(float(one) for one in value.split(","))
            elif name == "threshold":
                said.threshold = float(value.lower().removesuffix("v"))
            elif name == "invert" and value.lower() in ("yes", "no"):
                said.inverted = value.lower() == "yes"
            elif equals and value:
                said.settings[name] = value
            else:
                raise ValueError
        except ValueError:
            raise InputError("read as", f"“{word}” is not understood", EXPECTED) from None
    if any(not 1 <= rate <= 1e10 for rate in said.rates) or len(said.rates) > 2:
        raise InputError("read as", "the rate is none", "bit/s, as rate=500000 or rate=500000,2000000")
    return said


def words_of(line: LineEntry | None) -> str:
    """How a line was read, as it would be typed."""
    if line is None:
        return "auto"
    rates = f"{line.rate:.0f}" if line.fast_rate is None else f"{line.rate:.0f},{line.fast_rate:.0f}"
    values = {name: f"{value:g}" if isinstance(value, float) else str(value) for name, value in line.settings.items()}
    settings = [f"{name}={value}" for name, value in values.items()]
    return " ".join([line.code, f"rate={rates}", *settings])


def read_anew(picture: Picture, entry: WaveformEntry, line: LineEntry | None, said: Said) -> str:
    """Read a channel's line anew; gives the sentence to tell.

    Raises:
        InputError: no code explains it as it was said.
        RecordingError: it cannot be written, or somebody writes to it.
    """
    from keel.lines.code import Asked
    from keel.probe.lines import told
    from keel.probe.stored import decode_anew

    manifest = picture.snapshot.manifest
    bus = entry.name if line is None else manifest.buses[line.bus].name
    slow, fast = (*said.rates, None, None)[:2]
    asked = Asked(slow, fast, said.inverted, said.settings, said.threshold)
    done = decode_anew(picture.wish.folder, picture.snapshot, bus, said.code, asked, given=said.given)
    if not done.lines:
        why = next((one for sentences in done.said.values() for one in sentences), "no code explains it")
        raise InputError(bus, why, "another code or rate; its frames stay as they were")
    return f"{bus}: {told(done.lines[0])[0]}"


@dataclass
class Exchanged:
    """A line that was read anew, as a step to undo."""

    folder: Path
    submit: Callable[[Callable[[], None]], None]
    failed: bool = False

    def undo(self) -> None:
        """Take it back."""
        self.submit(self._exchange)

    def redo(self) -> None:
        """Bring it forth again."""
        self.submit(self._exchange)

    def _exchange(self) -> None:
        from keel.store.replacing import take_back

        take_back(self.folder)
