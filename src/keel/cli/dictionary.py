"""``keel dict``: signal dictionaries."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, Rec, find_recording, read
from keel.cli.loading import load

if TYPE_CHECKING:
    pass

dictionary = typer.Typer(help="Look into, convert and use signal dictionaries.", no_args_is_help=True)
app.add_typer(dictionary, name="dict")

File = Annotated[Path, typer.Argument(metavar="FILE", help="A signal database (.dbc) or Keel's own form (.toml).")]
Output = Annotated[Path, typer.Option("--to", "-o", metavar="FILE", help="Where to write: .dbc or .toml.")]


@dictionary.callback()
def _dict() -> None:
    """Look into, convert and use signal dictionaries."""


@dictionary.command(epilog="Ends with 1 if anything was passed over.   Example:  keel dict check harbour.dbc")
def check(file: File, json: Annotated[bool, typer.Option("--json", help="JSON.")] = False) -> None:
    """Read a dictionary and tell what is in it, and what could not be read and where."""
    from keel.model.safe_text import plain
    from keel.signals.loading import load_dictionary

    found = load_dictionary(file)
    messages = found.dictionary.messages
    signals = sum(len(m.signals) + len(m.text_fields) for m in messages)
    nodes = {n for m in messages for n in (m.sender, *(r for s in m.signals for r in s.receivers)) if n}
    if json:
        answer = {
            "messages": len(messages),
            "signals": signals,
            "nodes": len(nodes),
            "lost": [plain(words) for words in found.lost],
            "problems": [
                {"line": p.line, "column": p.column, "what": p.what, "expected": p.expected} for p in found.problems
            ],
        }
        print(json_module.dumps(answer, indent=1))
    else:
        print(f"{len(messages)} messages, {signals} signals, {len(nodes)} nodes")
        for words in found.lost:
            print(f"not taken in: {plain(words)}")
        for problem in found.problems:
            print(plain(problem.words()))
    if found.problems:
        raise typer.Exit(1)


@dictionary.command(epilog="Example:  keel dict convert harbour.dbc --to harbour.toml")
def convert(file: File, output: Output) -> None:
    """Write a dictionary in another form; says what does not fit there."""
    from keel.signals.loading import save_dictionary

    loaded = load(file)
    _tell_written(output, save_dictionary(loaded.dictionary, output), len(loaded.dictionary.messages))


@dictionary.command(epilog="Example:  keel dict merge mine.toml builder.dbc --to all.toml")
def merge(
    files: Annotated[list[Path], typer.Argument(metavar="FILE...", help="Dictionaries, the first with precedence.")],
    output: Output,
) -> None:
    """Write one dictionary of several: later ones fill in what earlier ones leave free."""
    from keel.signals.dictionary import merged
    from keel.signals.loading import save_dictionary

    whole = merged((load(file).dictionary for file in files), output.stem)
    _tell_written(output, save_dictionary(whole, output), len(whole.messages))


@dictionary.command(epilog="Example:  keel dict draft tern-morning -o tern.toml")
def draft(recording: Rec, output: Output, ask: Ask = "") -> None:
    """Write down what a recording's traffic shows of an unknown network: every message, every field.

    What a file that is there already says stays as it is: only what it leaves free is filled in.
    """
    from keel.errors import InputError
    from keel.hunt.columns import gather
    from keel.hunt.draft import draft as drafted
    from keel.hunt.draft import said_in_notes
    from keel.hunt.traffic import Traffic
    from keel.signals.dictionary import merged
    from keel.signals.loading import save_dictionary

    snapshot, _, matches = read(recording, ask)
    if not len(matches):
        which = "holds no frame" + (" that meets the ask" if snapshot.frames else "")
        raise InputError(str(recording), which, "traffic to draft from")
    found = drafted(Traffic.of(gather(matches)), [b.name for b in snapshot.manifest.buses])
    if output.suffix.lower() == ".dbc":
        found = said_in_notes(found)
    whole = merged([load(output).dictionary, found] if output.exists() else [found], output.stem)
    _tell_written(output, save_dictionary(whole, output), len(whole.messages))


@dictionary.command(epilog="Example:  keel dict schema > keel-dictionary.json")
def schema() -> None:
    """Print the JSON schema of Keel's own form, for editors."""
    from keel.signals.shape import schema as made

    print(json_module.dumps(made(), indent=1))


@dictionary.command(epilog="Example:  keel dict use tern-morning harbour.dbc --bus A")
def use(
    recording: Rec,
    file: File,
    bus: Annotated[str, typer.Option("--bus", metavar="BUS", help="For this bus only.")] = "",
    first: Annotated[bool, typer.Option("--first", help="Before the others that are used, not after them.")] = False,
) -> None:
    """Use a dictionary with a recording from now on; the recording keeps a copy."""
    from keel.model.safe_text import plain
    from keel.store.dictionaries import use_dictionary

    loaded = load(file)
    entry = use_dictionary(find_recording(recording), loaded, bus, first)
    where = f" for bus {plain(bus)}" if bus else ""
    print(f"{plain(entry.name)} is used{where}: {len(loaded.dictionary.messages)} messages")


@dictionary.command("drop", epilog="Example:  keel dict drop tern-morning harbour")
def drop(
    recording: Rec,
    name: Annotated[str, typer.Argument(metavar="NAME", help="What the dictionary is called.")],
) -> None:
    """No longer use a dictionary with a recording."""
    from keel.errors import InputError
    from keel.store.manifest import edit_manifest

    folder = find_recording(recording)
    with edit_manifest(folder) as manifest:
        kept = [d for d in manifest.dictionaries if d.name != name]
        if len(kept) == len(manifest.dictionaries):
            known = ", ".join(d.name for d in kept)
            raise InputError(str(folder), f"no dictionary called “{name}” is used", known)
        manifest.dictionaries = kept


@dictionary.command("list", epilog="Example:  keel dict list tern-morning")
def listed(recording: Rec, json: Annotated[bool, typer.Option("--json", help="JSON.")] = False) -> None:
    """The dictionaries that are used with a recording, the first with precedence."""
    from keel.model.safe_text import plain
    from keel.store.manifest import load_manifest

    manifest = load_manifest(find_recording(recording))
    if json:
        answer = [{"name": d.name, "source": d.source, "digest": d.digest, "bus": d.bus} for d in manifest.dictionaries]
        print(json_module.dumps(answer, indent=1))
        return
    print(f"its own: {len(manifest.dictionary.messages)} messages")
    for entry in manifest.dictionaries:
        print(plain(f"{entry.name}, from {entry.source}, for {f'bus {entry.bus}' if entry.bus else 'all buses'}"))


def _tell_written(output: Path, lost: list[str], messages: int) -> None:
    from keel.model.safe_text import plain

    for words in lost:
        say(f"keel: {plain(str(output))} cannot say {plain(words)}")
    print(f"{plain(str(output))}: {messages} messages")
