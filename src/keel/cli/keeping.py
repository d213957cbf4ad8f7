"""``keel verify``, ``keel pack``, ``keel unpack``: recordings checked, mended, packed for keeping."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Rec, find_recording
from keel.cli.progress import Progress

To = Annotated[
    Path | None, typer.Option(metavar="PATH", help="Leave the recording as it is and do it to a copy there.")
]


@app.command(epilog="Exit status 1 if something is wrong.   Examples:  keel verify tern   keel verify tern --repair")
def verify(
    recording: Rec,
    repair: Annotated[bool, typer.Option(help="Mend what can be mended; damaged files are set aside.")] = False,
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Check every byte of a recording against its checksums."""
    from keel.errors import NotARecording
    from keel.store.manifest import load_manifest
    from keel.store.repair import repair as mend
    from keel.store.verify import verify as check

    folder = find_recording(recording)
    mended: list[str] = []
    if repair:
        if not folder.is_dir():
            raise NotARecording(str(folder), "there is no such recording")
        mended = mend(folder)
        for sentence in mended:
            say(sentence)
    progress = Progress("checking")
    findings = check(folder, progress.at)
    progress.end()
    segments = load_manifest(folder).segments
    if json:
        found = [{"file": f.file, "what": f.what, "bad": f.bad} for f in findings]
        print(json_module.dumps({"segments": len(segments), "findings": found, "mended": mended}, indent=1))
    elif findings:
        for finding in findings:
            print(f"{finding.file}: {finding.what}")
        print("keel verify --repair mends what can be mended")
    else:
        print(
            f"{folder.name}: {len(segments)} segments, {sum(s.rows for s in segments)} frames, every checksum is right"
        )
    if findings:
        raise typer.Exit(1)


@app.command(epilog="Examples:  keel pack tern   keel pack tern --to archive/tern.keel")
def pack(recording: Rec, to: To = None) -> None:
    """Rewrite a recording's segments as Parquet (zstd), for keeping."""
    from keel.store.packing import pack as run

    folder = _copied(recording, to)
    before = _size(folder)
    progress = Progress("packing")
    run(folder, progress.at)
    progress.end()
    say(f"{folder}: packed, {before / 1e6:.1f} MB became {_size(folder) / 1e6:.1f} MB")


@app.command(epilog="Example:  keel unpack tern")
def unpack(recording: Rec, to: To = None) -> None:
    """Make a packed recording readable again: exactly what it was."""
    from keel.store.packing import unpack as run

    folder = _copied(recording, to)
    progress = Progress("unpacking")
    run(folder, progress.at)
    progress.end()
    say(f"{folder}: unpacked")


def _copied(recording: Path, to: Path | None) -> Path:
    from keel.store.library import with_suffix
    from keel.store.packing import copy_recording

    folder = find_recording(recording)
    if to is None:
        return folder
    to = with_suffix(to)
    copy_recording(folder, to)
    return to


def _size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())
