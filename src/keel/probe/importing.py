"""Waveforms into a recording: read from files, measured, their lines decoded, all of it kept; whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from pathlib import Path

from keel.errors import InputError, RecordingError
from keel.formats.wave_taken import AS_FOUND, Taken
from keel.formats.waveforms import read_waveforms
from keel.lines.code import Asked
from keel.model.safe_text import plain
from keel.model.waveform import Channel
from keel.probe.candidates import Wanted
from keel.probe.channels import probed
from keel.probe.decoding import Decoded, decode_channels, free_name
from keel.probe.made import EXPECTED, made, parse_formula
from keel.probe.stored import record

READ, PROBED, DECODED, WHOLE = 40, 60, 85, 100
"""How far it is when files are read, channels are measured, lines are decoded, in per cent."""

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Said:
    """What a person says of lines; all else is found.

    Attributes:
        wanted: The codes, each with its channels.
        asked: Rates, polarity, settings.
        made: Channels made of others, as ``name=formula``.
        given: What of all that was set, by name.
        taken: What is said of the numbers in the files.
    """

    wanted: tuple[Wanted, ...] = (Wanted(),)
    asked: Asked = field(default_factory=Asked)
    made: tuple[str, ...] = ()
    given: tuple[str, ...] = ()
    taken: Taken = AS_FOUND


NOTHING_SAID = Said()


def import_waveforms(
    files: Sequence[Path], folder: Path, said: Said = NOTHING_SAID, progress: Progress = lambda *_: None
) -> tuple[Decoded, int]:
    """Make a recording of files of waveforms; what was found, and how many frames there are.

    Args:
        files: One after another.
        folder: The recording to be.
        said: What a person says of the lines.
        progress: Told how much of how much is done; what it raises gives it up.

    Raises:
        InputError: a file cannot be read, or what was said does not fit them.
        RecordingError: there is something of that name already, or no room.
    """
    if folder.exists():
        raise RecordingError(str(folder), "there is something of this name already")
    channels = channels_in(files, said, lambda done, total: progress(READ * done // max(total, 1), WHOLE))
    return keep(channels, folder, f"waveforms of {', '.join(plain(file.name) for file in files)}", said, progress)


def keep(
    channels: Sequence[Channel],
    folder: Path,
    source: str,
    said: Said = NOTHING_SAID,
    progress: Progress = lambda *_: None,
) -> tuple[Decoded, int]:
    """Make a recording of channels; as `import_waveforms`. ``source`` says where they came from, in words."""
    found = []
    for number, one in enumerate(channels):
        progress(READ + (PROBED - READ) * number // len(channels), WHOLE)
        found.append(probed(one, said.asked))
    progress(PROBED, WHOLE)
    done = decode_channels(found, said.wanted, said.asked)
    progress(DECODED, WHOLE)
    frames = record(
        done, folder, source, said.given, lambda n, of: progress(DECODED + (WHOLE - DECODED) * n // of, WHOLE)
    )
    return done, frames


def channels_in(
    files: Sequence[Path], said: Said = NOTHING_SAID, progress: Progress = lambda *_: None, taken: Sequence[str] = ()
) -> list[Channel]:
    """The channels of all files, and those that are made of them.

    Channels of several files are told apart by the file's name where they share theirs, or have one that is taken.
    """
    named = [name for one in said.wanted for name in (*one.channels, *one.roles)]
    bits = tuple(name for name in named if name.endswith("]"))
    sizes = [path.stat().st_size if path.is_file() else 0 for path in files]
    found: list[Channel] = []
    for number, path in enumerate(files):
        passed = partial(_passed, progress, sum(sizes[:number]), sum(sizes))
        for one in read_waveforms(path, bits, passed, said.taken)[1]:
            name = plain(one.name)
            known = {*taken, *(other.name for other in found)}
            if name in known:
                name = free_name(f"{plain(path.stem)} {name}", known)
            found.append(replace(one, name=name, number=len(found) + 1))
    for text in said.made:
        found.append(made_channel(text, found, taken))
    return found


def _passed(progress: Progress, before: int, whole: int, done: int, _: int) -> None:
    """Progress within one of several files, as that of all."""
    progress(before + done, whole)


def made_channel(text: str, known: Sequence[Channel], taken: Sequence[str] = ()) -> Channel:
    """A channel made of others, as ``name=formula``.

    Raises:
        InputError: the name is taken, or the formula is none.
    """
    name, equals, formula = text.partition("=")
    if not equals or not name.strip() or name.strip() in {*taken, *(one.name for one in known)}:
        raise InputError("--make", f"“{text}” names no new channel", f"NAME={EXPECTED}")
    parsed = parse_formula(formula)
    wave = made(parsed, {one.name: one.wave for one in known})
    return Channel(name.strip(), len(known) + 1, wave, formula=parsed.text)
