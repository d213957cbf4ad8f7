"""The commands. Each is one file; the heavy imports happen inside them, so that ``keel --help`` is quick."""

from __future__ import annotations

import io
import os
import sys

import typer

from keel.errors import AskError, ControlError, KeelError

app = typer.Typer(
    name="keel",
    help="Record vehicle and device buses, narrow hours of traffic, pinpoint the field that carries a value.",
    no_args_is_help=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)

DONE, FAILED, WRONG_USE = 0, 1, 2
UNFORESEEN = "Keel did not foresee this"


def main() -> None:
    """Run the command line; errors become one clear line on stderr and an exit code."""
    from keel.cli import (  # noqa: F401
        bench,
        bus,
        checking,
        compare,
        dictionary,
        draw,
        exporting,
        frames,
        hunt,
        importing,
        keeping,
        live,
        margins,
        prepare,
        signals,
        sources,
        spans,
        stats,
        waveforms,
    )

    for stream in (sys.stdout, sys.stderr):
        # What a terminal or a pipe cannot say in its encoding is written as an escape.
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    try:
        app()
    except (AskError, ControlError) as error:
        _fail(str(error) if isinstance(error, ControlError) else f"the ask, {error}", WRONG_USE)
    except KeelError as error:
        _fail(str(error), FAILED)
    except BrokenPipeError:
        # Whoever read our output has enough of it.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(DONE)
    except OSError as error:
        _fail(f"{error.filename or 'keel'}: {error.strerror or error}", FAILED)
    except UnicodeEncodeError as error:
        _fail(f"“{error.object[:60]}” holds what is no Unicode text; name the file otherwise", FAILED)
    except (MemoryError, RecursionError):
        _fail("there is too much of it to be held in memory", FAILED)
    except Exception as error:
        _fail(f"{UNFORESEEN}: {type(error).__name__}: {error}; {_written_down()}", FAILED)


def _fail(sentence: str, code: int) -> None:
    from keel.model.safe_text import plain

    sys.stdout.flush()
    print(f"keel: {plain(sentence, 1000)}", file=sys.stderr)
    sys.exit(code)


def _written_down() -> str:
    """Keep what a developer needs of an error that nobody foresaw; says where."""
    import tempfile
    import traceback
    from pathlib import Path

    path = Path(tempfile.gettempdir()) / f"keel-error-{os.getpid()}.txt"
    try:
        path.write_text(traceback.format_exc(), encoding="utf-8", errors="backslashreplace")
    except OSError:
        return "and there is no room to write down what"
    return f"{path} holds what a developer needs"


def say(sentence: str) -> None:
    """A line for the person, on stderr."""
    from keel.model.safe_text import plain

    print(plain(sentence, 2000), file=sys.stderr)
