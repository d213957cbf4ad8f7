"""The commands. Each is one file; the heavy imports happen inside them, so that ``keel --help`` is quick."""

from __future__ import annotations

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


def main() -> None:
    """Run the command line; errors become one clear line on stderr and an exit code."""
    from keel.cli import (  # noqa: F401
        bench,
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
        prepare,
        signals,
        stats,
    )

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


def _fail(sentence: str, code: int) -> None:
    from keel.model.plain import plain

    sys.stdout.flush()
    print(f"keel: {plain(sentence, 1000)}", file=sys.stderr)
    sys.exit(code)


def say(sentence: str) -> None:
    """A line for the person, on stderr."""
    print(sentence, file=sys.stderr)
