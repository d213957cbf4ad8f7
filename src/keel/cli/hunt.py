"""``keel hunt``: which field carries it?"""

from __future__ import annotations

import json as json_module
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from keel.cli import app, say
from keel.cli.arguments import Ask, BusPairs, Rec, read

if TYPE_CHECKING:
    from keel.hunt.against import Differences
    from keel.hunt.candidates import Findings
    from keel.hunt.evidence import Evidence
    from keel.hunt.structure import Piece, Structure
    from keel.hunt.traffic import Traffic
    from keel.store.recording import Snapshot


def _file(option: str, words: str) -> Any:
    return typer.Option(option, metavar="FILE", help=words)


@app.command(
    epilog="Files hold two numbers a line: start,end for marks, time,value for readings and series; times in seconds "
    "from the recording's start, or since 1970.   Example:  keel hunt tern.keel --readings speed.csv --json"
)
def hunt(
    recording: Rec,
    marks: Annotated[
        Path | None, _file("--marks", "Spans in which something was operated; or of a channel, as motor<11V.")
    ] = None,
    readings: Annotated[Path | None, _file("--readings", "Values that a person read off a display.")] = None,
    series: Annotated[
        Path | None, _file("--series", "A log of another instrument, with its own clock; or a channel.")
    ] = None,
    against: Annotated[
        Path | None, typer.Option("--against", metavar="REC2", help="A bad recording: what is wrong in it?")
    ] = None,
    value: Annotated[str | None, typer.Option("--value", metavar="V", help="A number or text that is sent.")] = None,
    at: Annotated[str | None, typer.Option("--at", metavar="T", help="About when it is sent, in seconds.")] = None,
    structure: Annotated[
        bool, typer.Option("--structure", help="No evidence: what payloads are made of, seen from them alone.")
    ] = False,
    attempt: Annotated[
        str | None, typer.Option("--try", metavar="NAME", help="Whose marks of the recording: what was operated.")
    ] = None,
    clock_within: Annotated[
        float, typer.Option("--clock-within", metavar="S", min=0.1, help="How far a series' clock may be off.")
    ] = 60.0,
    bus: BusPairs = None,
    ask: Ask = "",
    json: Annotated[bool, typer.Option("--json", help="JSON.")] = False,
) -> None:
    """Find the field that carries something, by all the evidence given; without any, by the recording's own marks."""
    given = [x for x in (marks, readings, series, value) if x is not None]
    alone = [x for x in (against, structure or None) if x is not None]
    if len(alone) + bool(given) > 1:
        raise typer.BadParameter("--against and --structure stand alone")
    snapshot, scene, matches = read(recording, ask)
    from keel.hunt.columns import gather
    from keel.hunt.traffic import Traffic
    from keel.model.safe_text import plain

    traffic = Traffic.of(gather(matches))
    if structure:
        _structure(traffic, snapshot, json)
    elif against is not None:
        from keel.compare.buses import pair_buses, pair_given
        from keel.errors import InputError
        from keel.hunt.against import good_against_bad

        bad = read(against, ask)
        for one, given_path in ((matches, recording), (bad[2], against)):
            if not len(one):
                which = "holds no frame" + (" that meets the ask" if one.snapshot.frames else "")
                raise InputError(str(given_path), which, "traffic to compare")
        buses = pair_buses(snapshot, bad[0], pair_given(bus or (), snapshot, bad[0]))
        columns = {buses.to_a(key): replace(c, key=buses.to_a(key)) for key, c in gather(bad[2]).items()}
        for sentence in buses.words:
            say(f"keel: {plain(sentence)}")
        _against(good_against_bad(traffic, columns), snapshot, bad[0], json)
    else:
        from keel.hunt.evidence import tell_apart
        from keel.hunt.series import WITHIN_S

        evidence = evidence_of(snapshot, scene.zero, marks, readings, series, value, at, attempt)
        within = min(evidence.clock_within_s, clock_within) if evidence.clock_within_s < WITHIN_S else clock_within
        found = replace(evidence, clock_within_s=within).follow(traffic)
        first = [c for i, c in enumerate(found.candidates) if c.family not in {o.family for o in found.candidates[:i]}]
        telling = tell_apart(traffic, first[0], first[1], scene.zero).words if len(first) > 1 else ""
        if marks is not None and not marks.exists():
            from keel.hunt.following import followed_words

            found = replace(found, notes=(*found.notes, *followed_words(matches, evidence.spans)))
        _carried(found, snapshot, telling, json)


def evidence_of(
    snapshot: Snapshot,
    start: int,
    marks: Path | None = None,
    readings: Path | None = None,
    series: Path | None = None,
    value: str | None = None,
    at: str | None = None,
    attempt: str | None = None,
) -> Evidence:
    """The evidence that is given; none is the recording's own marks. ``start`` is time zero, in ns.

    Raises:
        typer.BadParameter: there is no such try, or a time is none.
    """
    from keel.hunt.channels import series_from, spans_from
    from keel.hunt.evidence import Evidence
    from keel.hunt.exact import Known
    from keel.hunt.files import moment, read_points
    from keel.hunt.series import WITHIN_S
    from keel.model.safe_text import plain
    from keel.model.span import of_try, pair_up, tries_of

    known = None
    if value is not None:
        try:
            known = Known(value, None if at is None else moment(Decimal(at), start))
        except InvalidOperation:
            raise typer.BadParameter(f"--at {at}: seconds were expected, as 12.5") from None
    spans = spans_from(snapshot, marks, start) if marks else []
    points, within = series_from(snapshot, series, start) if series else (None, WITHIN_S)
    if marks is None and readings is None and series is None and known is None:
        names = tries_of(snapshot.manifest.marks)
        if attempt is not None and attempt not in names:
            raise typer.BadParameter(f"--try {attempt}: there are marks of {', '.join(names) or 'no try'}")
        used = attempt if attempt is not None else (names or [""])[-1]
        if len(names) > 1:
            others = ", ".join(plain(n) or "an unnamed one" for n in names if n != used)
            say(f"keel: marks of the try “{plain(used)}” are used; others: {others} (--try)")
        spans = pair_up(of_try(snapshot.manifest.marks, used))
    return Evidence(
        tuple(spans),
        read_points(readings, start) if readings else None,
        points,
        known,
        within,
    )


def _who(key: int, *snapshots: Snapshot) -> dict[str, str]:
    from keel.media.every import format_ident
    from keel.model.identity import unpack_key
    from keel.model.safe_text import plain

    bus, form, ident = unpack_key(key)
    names = [b.name for b in snapshots[0].manifest.buses]
    for other in snapshots[1:]:
        names += [b.name for b in other.manifest.buses]
    return {"bus": plain(names[bus]), "id": format_ident(form, ident)}


def _carried(findings: Findings, snapshot: Snapshot, telling: str, json: bool) -> None:
    from keel.hunt.candidates import under_originals

    rows: list[dict[str, Any]] = []
    listed = findings.candidates if json else under_originals(findings.candidates)
    for found in listed:
        field = found.field
        rows.append(
            {
                **_who(found.key, snapshot),
                "start": field.start,
                "length": field.length,
                "order": field.order,
                "signed": field.signed,
                "header": found.header or None,
                "mux": found.page,
                "scale": found.scale,
                "offset": found.offset,
                "lag": round(found.lag_s, 3),
                "score": found.score,
                "shape": found.shape or None,
                "family": found.family,
                "why": found.why,
            }
        )
    if json:
        answer = {
            "evidence": findings.evidence,
            "verdict": findings.verdict,
            "chance": findings.chance or None,
            "reason": findings.reason or None,
            "nothing_probability": findings.nothing_probability,
            "candidates": rows,
            "notes": list(findings.notes),
            "next": telling or None,
        }
        print(json_module.dumps(answer, indent=1))
        return
    print(f"{findings.evidence}: {findings.sentence}")
    for note in findings.notes:
        print(note)
    if rows:
        print(
            f"\n{'bus':8}{'id':>9}{'page':>5}{'start':>6}{'bits':>5}  {'order':7}{'scale':>11}{'offset':>10}"
            f"{'score':>7}{'family':>7}  why"
        )
    families: set[int] = set()
    for row in rows:
        page = "" if row["mux"] is None else row["mux"]
        start = row["start"] if row["header"] is None else row["header"][:6]
        copy = "└ a copy: " if row["family"] in families else ""
        families.add(row["family"])
        scale, offset = ("" if row[x] is None else f"{row[x]:.6g}" for x in ("scale", "offset"))
        kind = row["order"] + ("±" if row["signed"] else "")
        print(
            f"{row['bus'][:8]:8}{row['id']:>9}{page:>5}{start:>6}{row['length']:>5}  {kind:7}{scale:>11}"
            f"{offset:>10}{row['score']:>7.3f}{row['family']:>7}  {copy}{row['why']}"
        )
    if telling:
        print(f"\nto tell the first two apart: {telling}")


def _structure(traffic: Traffic, snapshot: Snapshot, json: bool) -> None:
    rows = []
    for key, found in traffic.structures.items():
        fields = [
            {
                "start": p.field.start,
                "length": p.field.length,
                "order": p.field.order,
                "signed": p.field.signed,
                "kind": p.kind,
                "algorithm": p.algorithm or None,
                "header": p.header or None,
                "mux": p.page,
            }
            for p in _pieces(traffic, key, found)
        ]
        rows.append({**_who(key, snapshot), "fields": fields})
    if json:
        print(json_module.dumps({"identifiers": rows}, indent=1))
        return
    from keel.signals.dictionary import GLYPHS

    for key, found in traffic.structures.items():
        who = _who(key, snapshot)
        print(f"{who['bus']} {who['id']}  {len(traffic.columns[key].times)} frames")
        for p in _pieces(traffic, key, found):
            if p.kind != "constant":
                page = "" if p.page is None else f"page {p.page}"
                where = f"{p.header} of the header" if p.header else p.field.words()
                print(f"    {GLYPHS[p.kind]} {p.kind:9}{where:34}{page:9}{p.algorithm}")


def _pieces(traffic: Traffic, key: int, found: Structure) -> list[Piece]:
    """What payload and header are made of."""
    return [*found.pieces, *(carrier.piece for carrier in traffic.headers.get(key, {}).values())]


def _against(found: Differences, snapshot: Snapshot, bad: Snapshot, json: bool) -> None:
    start = bad.zero
    rows: list[dict[str, Any]] = []
    for f in found.findings:
        field = None if f.field is None else {"start": f.field.start, "length": f.field.length, "order": f.field.order}
        times = [round((t - start) / 1e9, 6) for t in f.times]
        rows.append(
            {
                **_who(f.key, snapshot, bad),
                "kind": f.kind,
                "field": field,
                "score": f.score,
                "times": times,
                "why": f.why,
            }
        )
    if json:
        print(json_module.dumps({"findings": rows}, indent=1))
        return
    print(
        f"{found.evidence}: " + (f"{len(rows)} differences" if rows else "nothing beyond what two good ones differ by")
    )
    for row in rows:
        where = "" if row["field"] is None else f"{row['field']['length']} bits from {row['field']['start']}"
        kind = row["kind"].replace("_", " ")
        first = f"{row['times'][0]:.3f} s" if row["times"] else ""
        print(f"{row['bus'][:8]:8}{row['id']:>9}  {kind:16}{where:18}{row['score']:>6.3f}{first:>12}  {row['why']}")
