"""``keel demo``, ``keel open`` and ``keel record``."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from keel.cli import app, say
from keel.cli.arguments import find_recording, finite

if TYPE_CHECKING:
    from keel.formats.layout import Layout
    from keel.sources.source import Source


@app.command(epilog="Example:  keel demo")
def demo(
    seed: Annotated[int, typer.Option(min=0, help="The same seed sails the same voyage.")] = 1,
    speed: Annotated[float, typer.Option(min=0.1, max=60, callback=finite, help="Times as fast as real.")] = 1.0,
) -> None:
    """Sail the simulated ferry Tern, record it, and watch."""
    from keel.sources.launch import end, launch
    from keel.store.library import new_name

    _needs_terminal()
    folder = new_name("tern")
    recorder = launch([f"bench seed={seed} speed={speed:g}"], folder)
    try:
        _run_app(folder, recorder)
    finally:
        end(recorder)
    say(f"recorded in {folder}; keel open lists it")


@app.command(name="open", epilog="Examples:  keel open   keel open tern-20260101-080000   keel open capture.log")
def open_command(
    what: Annotated[
        Path | None, typer.Argument(metavar="[REC|FILE]", help="A recording, or a capture or waveform to import first.")
    ] = None,
) -> None:
    """Look at a recording; without a name, choose from those there are."""
    if what is None:
        _run_app(None, None)
        return
    folder, view = find_recording(what), ""
    if folder.is_file() and _is_waveform(folder):
        folder, view = _probe_imported(folder), "line"
    elif folder.is_file():
        folder = _imported(folder)
    from keel.errors import NotARecording

    if not (folder / "recording.json").is_file():
        raise NotARecording(str(what), "no such recording or file" if not folder.exists() else "not a recording")
    _run_app(folder, None, view)


def _is_waveform(file: Path) -> bool:
    """Whether a file is no capture but a waveform.

    Raises:
        InputError: it is neither.
    """
    from keel.errors import UnknownFormat
    from keel.formats.registry import recognise
    from keel.formats.waveforms import kind_of

    try:
        recognise(file)
    except UnknownFormat as error:
        try:
            return bool(kind_of(file))
        except UnknownFormat:
            raise error from None
    return False


def _probe_imported(file: Path) -> Path:
    """The recording of a file of waveforms: made once, found again while the file stays as it is."""
    from keel.cli.progress import Progress
    from keel.probe.importing import import_waveforms
    from keel.store.library import folder_of

    folder = folder_of(file)
    if not folder.exists():
        folder.parent.mkdir(parents=True, exist_ok=True)
        bar = Progress("reading")
        try:
            import_waveforms([file], folder, progress=bar.at)
        finally:
            bar.end()
    return folder


def _imported(file: Path) -> Path:
    """The recording of a capture: made once, found again while the file stays as it is."""
    from keel.cli.importing import import_into
    from keel.store.library import folder_of

    folder = folder_of(file)
    if not folder.exists():
        folder.parent.mkdir(parents=True, exist_ok=True)
        import_into([file], folder, layout=_layout_of(file))
    return folder


def _layout_of(file: Path) -> Layout | None:
    """How a delimited text lies, as the person says who looks at a preview of it; None for other files."""
    from keel.formats import delimited
    from keel.formats.registry import recognise

    if recognise(file)[0] is not delimited.FORMAT:
        return None
    _needs_terminal()
    from keel.app.dialogs.import_preview import PreviewApp
    from keel.cli.terminal import TerminalGuard

    with TerminalGuard():
        layout = PreviewApp(file).run()
    if layout is None:
        raise typer.Exit()
    return layout


def _needs_terminal() -> None:
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        from keel.errors import InputError

        raise InputError("keel", "the app needs a terminal", "standard input and output to be one")


def _run_app(folder: Path | None, recorder: subprocess.Popen[bytes] | None, view: str = "") -> None:
    _needs_terminal()
    import gc

    # Loading makes no garbage worth looking for; the app looks again once its views are there.
    gc.disable()
    from keel.app import run
    from keel.cli.terminal import TerminalGuard

    with TerminalGuard():
        run(folder, recorder, view)


@app.command(
    epilog="Examples:  keel record --from bench tern.keel   keel record --from can:can0,can1 harbour.keel   "
    "keel record --from 'serial:/dev/ttyUSB0 rate=115200 delimiter=lf' talk.keel   "
    "keel record --from adapter:/dev/ttyACM0 --from tcp:9000 both.keel   something | keel record --from pipe x.keel   "
    "keel sources lists what is there, and what can be said of each."
)
def record(
    recording: Annotated[Path, typer.Argument(metavar="REC", help="The recording to make, or to add to.")],
    source: Annotated[
        list[str],
        typer.Option("--from", metavar="SOURCE", help="KIND[:PLACE] [NAME=VALUE...]; several record side by side."),
    ],
    seconds: Annotated[float | None, typer.Option(min=0, callback=finite, help="Stop after so long.")] = None,
    only: Annotated[
        str, typer.Option(metavar="ASK", help="Of CAN interfaces only these identifiers, as id:1A0,220.")
    ] = "",
    seed: Annotated[int | None, typer.Option(min=0, help="For the bench: which voyage.")] = None,
    speed: Annotated[
        float | None, typer.Option(min=0.1, max=60, callback=finite, help="For the bench: times as fast.")
    ] = None,
    stop_with: Annotated[int | None, typer.Option(hidden=True)] = None,
) -> None:
    """Record until interrupted."""
    from keel.errors import InputError
    from keel.sources.recorder import record as run
    from keel.sources.recorder import start_recording
    from keel.store.control import Status
    from keel.store.library import with_suffix
    from keel.store.manifest import FILE

    recording = with_suffix(recording)
    stop = {"asked": False}

    def on_signal(*_: object) -> None:
        stop["asked"] = True

    signal.signal(signal.SIGTERM, on_signal)
    signal.signal(signal.SIGINT, on_signal)
    lines = _opened_sources(source, {"only": only or None, "seed": seed, "speed": speed})
    is_new = not (recording / FILE).exists()
    if is_new:
        start_recording(recording, lines)
    shown = {"at": 0.0}

    def on_status(status: Status) -> None:
        if sys.stderr.isatty() and time.monotonic() - shown["at"] > 0.5:
            shown["at"] = time.monotonic()
            words = f"{recording.name}: {status.frames} frames, {status.in_hz:.0f}/s, {status.lost} lost"
            words += f", {status.skipped} skipped" if status.skipped else ""
            words += f"  ✕ {plain(status.trouble, 60)}" if status.trouble else ""
            print(f"\r\033[K{words}", end="", file=sys.stderr, flush=True)

    def stopped() -> bool:
        return stop["asked"] or (stop_with is not None and os.getppid() != stop_with)

    from keel.model.safe_text import plain

    try:
        done = run(recording, lines, stopped, seconds, on_status)
    except InputError:
        if is_new:
            _remove_if_empty(recording)
        raise
    finally:
        if sys.stderr.isatty():
            print("\r\033[K", end="", file=sys.stderr)
    say(f"{recording}: {done.frames} frames added" + (f", {done.lost.total} lost" if done.lost.total else ""))
    for sentence in done.sentences:
        say(f"  {plain(sentence, 500)}")
    if all(line.ended for line in lines) and not done.frames and not done.lost.total:
        # What ended without a frame, or holds none that can be read, has failed.
        if is_new:
            _remove_if_empty(recording)
        raise InputError("the pipe", "ended without a frame", "a pcapng, pcap, JSON or text stream")


def _opened_sources(texts: list[str], settings: dict[str, Any]) -> list[Source]:
    """The sources that are meant, with settings that those take which have them; all are opened, or none."""
    from keel.errors import InputError
    from keel.sources.kind import with_texts
    from keel.sources.registry import KINDS, given_source, open_given

    given = [given_source(text) for text in texts]
    for name, value in settings.items():
        taking = [number for number, one in enumerate(given) if name in one.values]
        if value is not None and not taking:
            raise InputError(
                f"--{name}", "none of the sources takes that", "can:INTERFACE" if name == "only" else "bench"
            )
        for number in taking if value is not None else ():
            given[number] = with_texts(KINDS[given[number].kind], given[number], {name: str(value)})
    found: list[Source] = []
    try:
        for one in given:
            found.append(open_given(one))
    except BaseException:
        for source in found:
            source.close()
        raise
    return found


def _remove_if_empty(recording: Path) -> None:
    """Leave no recording behind that nothing came into."""
    from keel.store.library import look

    if not look(recording).frames:
        shutil.rmtree(recording, ignore_errors=True)
