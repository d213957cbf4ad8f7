"""``keel check``: the user's own checks, passed or failed, for scripts."""

from __future__ import annotations

import json as json_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated
from xml.etree import ElementTree

import typer

from keel.cli import app
from keel.cli.arguments import Rec, find_recording, text_of

if TYPE_CHECKING:
    from keel.measure.checks import Verdict


@app.command(
    epilog="A rule a line, # begins a comment:  cycle(0A4) within 8ms..12ms   count(fault:crc) < 5 per 1min   "
    "load(a) < 60%   Exit status 1 if one fails or cannot be run.   Example:  keel check tern --rules harbour.rules"
)
def check(
    recording: Rec,
    rules: Annotated[
        Path | None, typer.Option(metavar="FILE", help="The rules; else those kept in the recording.")
    ] = None,
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
    junit: Annotated[Path | None, typer.Option(metavar="FILE", help="Write JUnit XML to this file.")] = None,
) -> None:
    """Run checks over a recording."""
    from keel.errors import InputError
    from keel.measure.checks import run_checks
    from keel.store.recording import Recording

    snapshot = Recording(find_recording(recording)).snapshot()
    texts = snapshot.manifest.checks
    if rules is not None:
        lines = text_of(rules, "a rule a line").splitlines()
        texts = [line.split("#", 1)[0].strip() for line in lines]
        texts = [text for text in texts if text]
    if not texts:
        raise InputError(str(rules or recording), "there is no check", "a rule such as count(fault) = 0")
    verdicts = run_checks(texts, snapshot)
    start = snapshot.zero
    if junit is not None:
        junit.write_text(_junit(snapshot.manifest.name, verdicts), encoding="utf-8")
    if json:
        print(json_module.dumps({"checks": [_plain(v, start) for v in verdicts]}, indent=1))
    else:
        for verdict in verdicts:
            sign = {True: "passed", False: "FAILED", None: "ERROR "}[verdict.passed]
            at = f"  at {(verdict.at - start) / 1e9:.6f} s" if verdict.at is not None else ""
            print(f"{sign}  {verdict.text}  ·  {verdict.figure}{at}")
    if not all(verdict.passed for verdict in verdicts):
        raise typer.Exit(1)


def _plain(verdict: Verdict, start: int) -> dict[str, object]:
    from keel.media.every import key_words

    return {
        "check": verdict.text,
        "passed": verdict.passed,
        "figure": verdict.figure,
        "at": None if verdict.at is None else (verdict.at - start) / 1e9,
        "id": None if verdict.key is None else key_words(verdict.key),
    }


def _junit(name: str, verdicts: list[Verdict]) -> str:
    failures = sum(verdict.passed is False for verdict in verdicts)
    errors = sum(verdict.passed is None for verdict in verdicts)
    suite = ElementTree.Element(
        "testsuite", name=name, tests=str(len(verdicts)), failures=str(failures), errors=str(errors)
    )
    for verdict in verdicts:
        case = ElementTree.SubElement(suite, "testcase", classname=name, name=verdict.text)
        if not verdict.passed:
            kind = "failure" if verdict.passed is False else "error"
            ElementTree.SubElement(case, kind, message=verdict.figure).text = verdict.figure
        else:
            ElementTree.SubElement(case, "system-out").text = verdict.figure
    ElementTree.indent(suite)
    return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True) + "\n"
