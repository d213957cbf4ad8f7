"""What the Hunt view says in words: the evidence there is, how to begin, and that nothing carries it."""

from __future__ import annotations

import textwrap

from keel.app.desk.picture import Picture
from keel.app.frame.helm import Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.views.hunt.search import Pairing, Result, Sought, evidence_spans, marks_in, readings_of, tries_in
from keel.app.views.hunt.wants import Hunted
from keel.hunt.verdict import Verdict
from keel.model.safe_text import plain
from keel.model.units import NS_PER_S

QUESTIONS = {
    "carrier": "what carries it?",
    "against": "what is wrong?",
    "structure": "what are payloads made of?",
}
TITLES: dict[Verdict, tuple[str, str]] = {
    "found": ("found", "sea"),
    "undecided": ("undecided", "brass"),
    "nothing": ("nothing", "coral"),
}
PAIRING: dict[Pairing, str] = {"pairs": "pairs (start, end)", "moments": "moments", "unused": ""}


def evidence_line(here: Here, sought: Sought, hunted: Hunted) -> Line:
    """The question, the evidence, and what was searched."""
    palette, width, picture, result = here.palette, here.width, here.picture, hunted.result
    line = Line(width, palette.style("text"))
    at = line.put(2, QUESTIONS[sought.mode], palette.style("strong", bold=True)) + 3
    at = line.put(at, _evidence(picture, sought), palette.style("brass")) + 3
    if hunted.searching:
        partly = result is not None and result.is_partial
        text = "first look; searching on… (esc gives up)" if partly else "searching… (esc gives up)"
        line.put(at, text, palette.style("brass"), max(width - at - 1, 0))
    elif hunted.errand.given_up:
        line.put(at, "given up; R searches again", palette.style("brass"), max(width - at - 1, 0))
    elif result is not None:
        found = result.findings
        text = f"searched {found.identifiers} identifiers, {words.count(found.fields)} fields in {result.took_s:.1f} s"
        line.put(at, text, palette.style("dim"), max(width - at - 1, 0))
    return line


def _evidence(picture: Picture, sought: Sought) -> str:
    if sought.mode == "structure":
        return "no evidence: the traffic alone"
    if sought.mode == "against":
        return f"bad: {sought.bad.stem}" if sought.bad else "bad: what the lens shows"
    parts = []
    marks = marks_in(picture, sought.attempt)
    spans = evidence_spans(picture, sought.pairing, sought.attempt)
    if sought.pairing != "unused" and (marks or not (readings_of(picture) or sought.series or sought.known)):
        marked, give = ("marks", "give") if len(marks) != 1 else ("mark", "gives")
        text = f"{len(marks)} {marked} as {PAIRING[sought.pairing]} {give} {len(spans)} span"
        text += "s" if len(spans) != 1 else ""
        if sought.pairing == "pairs" and len(marks) % 2:
            text += ", the last mark has no partner"
        others = max(len(tries_in(picture)) - 1, 0)
        if marks and (marks[0].of or others):
            text = f"{plain(marks[0].of) or 'unnamed try'}: {text}"
        if others:
            text += f" (t: {others} other {'tries' if others > 1 else 'try'})"
        parts.append(text)
    readings = readings_of(picture)
    if readings is not None:
        count = len(readings.values)
        parts.append(f"{count} reading{'s' if count != 1 else ''}" + (" (3 are needed)" if count < 3 else ""))
    if sought.series is not None:
        parts.append(f"series {sought.series.name}")
    if sought.known is not None:
        parts.append(f"value {sought.known.value}")
    return " · ".join(parts) or "marks are not used"


def how_to(here: Here) -> list[Line]:
    """How to begin."""
    palette, width = here.palette, here.width
    steps = (
        ("", "You pressed something:"),
        ("m", "flag a mark, operate the device, flag another; two or three times: each pair makes a span"),
        ("", ""),
        ("", "You see a value on a display:"),
        ("r", "type it, three times or more, while it changes"),
        ("", ""),
        ("", "You have something else:"),
        ("s", "a log of another instrument: a file of times and values"),
        ("v", "a value or text that is sent"),
        ("g", "a bad recording: what is wrong in it?"),
        ("u", "nothing: what are the payloads made of?"),
        ("", ""),
        ("", "Keel names the fields that follow, how sure it is, and says so when nothing does."),
    )
    lines = []
    for key, text in steps:
        line = Line(width, palette.style("text"))
        line.put(4, key, palette.style("brass", bold=True))
        line.put(7 if key else 4, text, palette.style("text" if key else "dim"))
        lines.append(line)
    return lines


def trouble_lines(here: Here, trouble: str) -> list[Line]:
    """Why the search ended without an answer."""
    lines = [here.line() for _ in range(3)]
    lines[1].put(4, f"✕ {trouble}", here.style("coral"), here.width - 6)
    return lines


def verdict_line(here: Here, result: Result) -> Line:
    """Whether it is found, or what would decide it."""
    palette, width = here.palette, here.width
    line = Line(width, palette.style("text"))
    found = result.findings
    title, role = TITLES[found.verdict]
    at = line.put(2, title, palette.style(role, bold=True)) + 1
    families = len({c.family for c in found.candidates})
    fields = "one field fits" if families == 1 else f"{families} fields fit"
    said = fields if found.verdict == "found" else f"{fields} best, none proved"
    said += f": {found.chance}" if found.chance else ""
    at = line.put(at, said, palette.style("text"))
    if found.reason:
        line.put(at, f"; {found.reason}", palette.style("brass"), max(width - at - 1, 0))
    return line


def nothing(here: Here, result: Result, ruled_out: bool) -> list[Line]:
    """That nothing carries it, and what that may mean."""
    width, picture, style = here.width, here.picture, here.style
    found = result.findings
    lines = [Line(width, style("text")) for _ in range(12)]
    if result.differences is not None:
        lines[0].put(4, "Nothing is wrong beyond what two good ones differ by.", style("strong", bold=True))
        return lines
    if ruled_out and found.candidates:
        lines[0].put(4, "All candidates are ruled out.", style("strong", bold=True))
        lines[2].put(4, "⌫", style("brass", bold=True))
        lines[2].put(7, "undoes the last one", style("text"))
        return lines
    count = len(result.spans)
    what = "the marks" if count and result.points is None else "what you gave"
    lines[0].put(4, f"Nothing follows {what}.", style("strong", bold=True))
    if found.verdict != "nothing":
        lines[0] = Line(width, style("text"))
        lines[0].put(4, f"Too little to tell what follows {what}.", style("strong", bold=True))
    first = f"No field of {found.identifiers} identifiers follows it."
    if count and result.points is None:
        first = f"Searched: {count} span{'s' if count != 1 else ''}, {found.identifiers} identifiers."
    texts = [first, *textwrap.wrap(f"{found.reason[:1].upper()}{found.reason[1:]}.", max(width - 8, 20))[:3], ""]
    if found.verdict == "nothing":
        texts.append("The device says nothing, it seems: a dead button looks like this.")
    texts.append("p reads the marks as pairs, as moments or not at all; an ask or the lens narrows the search.")
    for line, text in zip(lines[2:], (*texts, *found.notes), strict=False):
        line.put(4, text, style("text"))
    if result.spans:
        lines[9].put(4, "the spans:", style("dim"))
        at = 16
        for span in result.spans[:8]:
            low, high = ((t - picture.zero) / NS_PER_S for t in (span.start, span.end))
            at = lines[9].put(at, f"{low:.1f}–{high:.1f} s", style("brass")) + 3
    return lines
