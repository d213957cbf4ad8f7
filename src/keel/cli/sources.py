"""``keel sources``: what there is to record from, and what is heard there."""

from __future__ import annotations

import json as json_module
import sys
from typing import TYPE_CHECKING, Annotated, Any

import typer

from keel.cli import app

if TYPE_CHECKING:
    from keel.sources.kind import Given, Offer, Verdict


@app.command(
    epilog="Examples:  keel sources   keel sources --no-try   keel sources adapter:/dev/ttyACM0   keel sources --kinds"
)
def sources(
    named: Annotated[
        list[str] | None, typer.Argument(metavar="[SOURCE...]", help="Only these; left out: all that are there.")
    ] = None,
    attempt: Annotated[
        bool, typer.Option("--try/--no-try", help="Listen at each for some seconds, and say what is heard.")
    ] = True,
    kinds: Annotated[bool, typer.Option("--kinds", help="List the kinds, and what can be said of each.")] = False,
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """List what there is to record from, and what is heard there. It only listens: nothing is sent to any bus."""
    from keel.model.safe_text import plain
    from keel.sources.finding import what_is_there
    from keel.sources.kind import Offer
    from keel.sources.registry import KINDS, given_source

    if kinds:
        _kinds(json)
        return
    offers = [Offer(given, KINDS[given.kind].title) for given in map(given_source, named or [])] or what_is_there()
    rows = []
    for offer in offers:
        if sys.stderr.isatty():
            print(f"listening at {plain(offer.given.spec)}… ctrl+c ends", end="", file=sys.stderr, flush=True)
        verdict = _tried(offer.given) if attempt and not offer.problem else None
        rows.append(_row(offer, verdict))
        if sys.stderr.isatty():
            print("\r\033[K", end="", file=sys.stderr, flush=True)
        if not json:
            _print(rows[-1])
    if json:
        print(json_module.dumps({"sources": rows}, indent=1))


def _tried(given: Given) -> Verdict | None:
    from keel.sources.registry import KINDS

    kind = KINDS[given.kind]
    return kind.try_out(given, lambda: False) if kind.try_out is not None else None


def _row(offer: Offer, verdict: Verdict | None) -> dict[str, Any]:
    from keel.model.safe_text import plain

    heard: dict[str, Any] = {"words": None, "good": None, "settings": {}, "notes": []}
    if verdict is not None:
        heard = {
            "words": plain(verdict.words, 500),
            "good": verdict.good,
            "settings": dict(verdict.settings),
            "notes": [plain(note, 500) for note in verdict.notes],
        }
    return {
        "source": plain(offer.given.spec, 500),
        "kind": offer.given.kind,
        "title": plain(offer.title),
        "known": plain(offer.known, 200) or None,
        "problem": plain(offer.problem, 500) or None,
        "heard": heard,
    }


def _print(row: dict[str, Any]) -> None:
    print(f"{row['source']:32} {row['known'] or row['title']}")
    if row["problem"]:
        print(f"    {row['problem']}")
    if row["heard"]["words"] is not None:
        settings = "".join(f" {name}={value}" for name, value in row["heard"]["settings"].items())
        print(f"    {row['heard']['words']}")
        for note in row["heard"]["notes"]:
            print(f"    {note}")
        if settings:
            print(f"    keel record --from '{row['source']}{settings}' REC")


def _kinds(json: bool) -> None:
    from keel.sources.registry import KINDS

    found = []
    for kind in KINDS.values():
        parameters = [
            {"name": p.name, "words": p.words, "default": _plain(p.default), "takes": list(p.choices) or p.takes}
            for p in kind.parameters
        ]
        found.append({"kind": kind.word, "title": kind.title, "place": kind.where or None, "parameters": parameters})
    if json:
        print(json_module.dumps({"kinds": found}, indent=1))
        return
    for kind in KINDS.values():
        print(f"{kind.word:10}{kind.title}: {kind.example}")
        for parameter in kind.parameters:
            takes = ", ".join(parameter.choices) or parameter.takes
            print(f"    {parameter.name:12}{parameter.words}: {takes}")


def _plain(value: Any) -> Any:
    """A default as people would write it."""
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, bool):
        return "yes" if value else "no"
    return value
