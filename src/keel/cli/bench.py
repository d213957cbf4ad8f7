"""``keel bench``: the simulated ferry from the command line."""

from __future__ import annotations

import signal
from pathlib import Path
from typing import Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import find_recording, finite
from keel.cli.progress import Progress

LONGEST_S = 1_000_000.0
"""Eleven days: so long nobody sails in one go."""


@app.command(
    epilog="Examples:  keel bench   keel bench --seconds 600 --out tern.keel   "
    "keel bench --seconds 60 --out tern.log --at 20s:ramp=down --at 26s:ramp=stop   "
    "keel bench --to tern-morning ramp=down   keel bench --adapter   "
    "keel bench --probe bus-a --seconds 5 -o wires.csv"
)
def bench(
    settings: Annotated[list[str] | None, typer.Argument(metavar="[CONTROL=VALUE...]", help="What to work.")] = None,
    seconds: Annotated[
        float | None,
        typer.Option(min=0.02, max=LONGEST_S, callback=finite, help="Sail so long, as fast as it goes."),
    ] = None,
    out: Annotated[
        Path | None,
        typer.Option(
            "-o",
            "--out",
            metavar="FILE",
            help="A recording; .log a bracketed text log; .pcapng a capture; with --probe .vcd or .csv.",
        ),
    ] = None,
    seed: Annotated[int, typer.Option(min=0, help="The same seed sails the same voyage.")] = 1,
    at: Annotated[
        list[str] | None,
        typer.Option(metavar="TIME:CONTROL=VALUE", help="Work a control at a time, as 20s:ramp=down."),
    ] = None,
    to: Annotated[Path | None, typer.Option(metavar="REC", help="Operate the bench recorded there.")] = None,
    lines: Annotated[str, typer.Option(metavar="all|can", help="All lines aboard, or only the two of CAN.")] = "all",
    adapter: Annotated[
        bool, typer.Option("--adapter", help="Stand in for a serial CAN adapter at bus B, until interrupted.")
    ] = False,
    link: Annotated[
        Path | None, typer.Option(metavar="PATH", help="With --adapter: where its port is to be found.")
    ] = None,
    probe: Annotated[
        str,
        typer.Option(
            "--probe", metavar="LINE|list", help="Record the wires of a line aboard, as levels or volts; or list them."
        ),
    ] = "",
) -> None:
    """Sail the simulated ferry into a file, or operate its controls while it is recorded. Alone: list the controls."""
    from keel.bench.controls import parse_setting, timed

    if adapter:
        if settings or seconds is not None or out is not None or at or to is not None or probe:
            raise typer.BadParameter("--adapter goes with --seed and --link only")
        _stand_in(seed, link)
        return
    if link is not None:
        raise typer.BadParameter("--link goes with --adapter")
    given = [parse_setting(text) for text in settings or []]
    if probe == "list":
        _list_probes()
    elif probe:
        if seconds is None or out is None or to is not None:
            raise typer.BadParameter("--probe goes with --seconds and -o FILE")
        _probe(probe, seconds, out, seed, [(0.0, *one) for one in given] + [timed(text) for text in at or []])
    elif to is not None:
        if seconds is not None or out is not None or at:
            raise typer.BadParameter("--to works a running bench; it goes with CONTROL=VALUE only")
        _work(to, given)
    elif seconds is not None and out is not None:
        if lines not in ("all", "can"):
            raise typer.BadParameter(f"--lines {lines}: all or can is expected")
        _sail(seconds, out, seed, [(0.0, *one) for one in given] + [timed(text) for text in at or []], lines == "all")
    elif seconds is not None or out is not None or given or at:
        raise typer.BadParameter("--seconds and --out go together; or use --to REC with CONTROL=VALUE")
    else:
        _list()


def _probe(word: str, seconds: float, out: Path, seed: int, events: list[tuple[float, str, str]]) -> None:
    from keel.bench.probe import write_probe

    bar = Progress("sailing")
    try:
        said = write_probe(word, seconds, out, seed, events, lambda at: bar.at(int(at), int(seconds)))
    finally:
        bar.end()
    say(f"{out}: {said}, {seconds:g} s")


def _stand_in(seed: int, link: Path | None) -> None:
    from keel.bench.stand_in import StandIn, a_link
    from keel.errors import InputError

    stop = {"asked": False}

    def on_signal(*_: object) -> None:
        stop["asked"] = True

    for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
        signal.signal(number, on_signal)
    try:
        stand_in = StandIn(link or a_link(), seed)
    except OSError as error:
        raise InputError(str(link), f"cannot be made ({error.strerror})", "a place where a link may be") from None
    try:
        rate = f"{stand_in.bit_rate / 1000:g} kbit/s"
        say(f"a CAN adapter stands in at {stand_in.link}, bus B at {rate}; ctrl+c unplugs it")
        say(f"  keel record --from 'adapter:{stand_in.link} rate={stand_in.bit_rate}' plugged.keel")
        while not stop["asked"]:
            stand_in.turn()
    finally:
        stand_in.close()


def _list() -> None:
    from keel.bench.controls import CONTROLS

    for control in CONTROLS:
        print(f"{control.name:16}{control.takes():26}{control.title}{': ' + control.words if control.words else ''}")


def _list_probes() -> None:
    from keel.bench.probes import PROBES

    for one in PROBES.values():
        kind = "volts" if one.step_ns else "levels"
        print(f"{one.word:14}{kind:8}{one.title}")


def _work(to: Path, given: list[tuple[str, str]]) -> None:
    from keel.errors import RecordingError
    from keel.store.control import ask_control
    from keel.store.locks import is_being_written
    from keel.store.manifest import load_manifest

    if not given:
        raise typer.BadParameter("say what to work, as ramp=down")
    folder = find_recording(to)
    load_manifest(folder)
    if not is_being_written(folder):
        raise RecordingError(str(folder), "no recorder is at work on it")
    for name, value in given:
        ask_control(folder, name, value)


def _sail(seconds: float, out: Path, seed: int, events: list[tuple[float, str, str]], with_others: bool) -> None:
    from keel.bench.headless import sail

    bar = Progress("sailing")
    try:
        frames = sail(seconds, out, seed, events, lambda at: bar.at(int(at), int(seconds)), with_others)
    finally:
        bar.end()
    say(f"{out}: {frames} frames, {seconds:g} s")
