"""``keel bus``: what a recording says of its buses, and saying it anew."""

from __future__ import annotations

import json as json_module
from typing import Annotated

import typer

from keel.cli import app, say
from keel.cli.arguments import Rec, find_recording


@app.command(
    epilog="Examples:  keel bus tern   keel bus tern B --bit-rate 250000   keel bus tern B --name deck --stamp end"
)
def bus(
    recording: Rec,
    name: Annotated[
        str, typer.Argument(metavar="[NAME]", help="The bus to say something of; left out: all are listed.")
    ] = "",
    bit_rate: Annotated[int | None, typer.Option(metavar="N", help="Its bit rate, bit/s.")] = None,
    fast_bit_rate: Annotated[int | None, typer.Option(metavar="N", help="Its CAN FD data bit rate, bit/s.")] = None,
    new_name: Annotated[str | None, typer.Option("--name", metavar="NEW", help="What it is to be called.")] = None,
    stamp: Annotated[str | None, typer.Option(metavar="start|end", help="What times are of, in a frame.")] = None,
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """List the buses of a recording, or say how fast one runs, what it is called, and what its times are of."""
    from keel.media.every import medium_of
    from keel.store.buses import changed, place_of, put_bus
    from keel.store.manifest import edit_manifest, load_manifest

    folder = find_recording(recording)
    said = (bit_rate, fast_bit_rate, new_name, stamp)
    if not name and any(one is not None for one in said):
        raise typer.BadParameter("say of which bus", param_hint="NAME")
    manifest = load_manifest(folder)
    shown = range(len(manifest.buses)) if not name else [place_of(manifest, name)]
    if any(one is not None for one in said):
        with edit_manifest(folder) as manifest:
            place = place_of(manifest, name)
            put_bus(manifest, place, changed(manifest.buses[place], *said))
        say(f"{folder.name}: bus {manifest.buses[place].name} changed")
    rows = [manifest.buses[place] for place in shown]
    if json:
        keys = ("name", "medium", "bit_rate", "fast_bit_rate", "stamp", "assumed", "fast_assumed")
        print(json_module.dumps([{key: getattr(row, key) for key in keys} for row in rows], indent=1))
        return
    wide = max((len(row.name) for row in rows), default=0)
    for row in rows:
        slow, fast = (" (assumed)" if assumed else "" for assumed in (row.assumed, row.fast_assumed))
        rates = f"{row.bit_rate} bit/s{slow}, data phase {row.fast_bit_rate} bit/s{fast}"
        if not medium_of(row).has_load:
            # How long frames take does not follow from a rate there.
            rates = "no bit rate"
        print(f"{row.name:{wide}}  {row.medium}  {rates}, stamped at the {row.stamp}")
