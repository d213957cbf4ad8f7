"""Read as: everything that can be said of how a line is read, and what comes of it while it is said."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from textwrap import wrap
from typing import TYPE_CHECKING

from keel.app.desk.errands import Errand
from keel.app.frame.action import Action
from keel.app.frame.helm import Helm, Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.views.line.choices import FORMS, LineChoices
from keel.app.views.line.trial import Trial
from keel.app.views.line.trying import Tried

if TYPE_CHECKING:
    from keel.store.waveform_entries import LineEntry

LABEL, BESIDE = 16, 56
"""How wide labels are, and from which column on it stands what comes of it."""
FORM = "bytes shown"
"""A row that says nothing of the line, but of how it is shown."""
LEAST_BESIDE = 110
"""With fewer columns what comes of it stands below."""


@dataclass(frozen=True)
class Row:
    """Something that can be said.

    Attributes:
        name: As `Trial` has it, or a setting of the code.
        label: What people call it.
        expected: What may be said.
        among: What it may be, where these are few.
    """

    name: str
    label: str
    expected: str
    among: tuple[str, ...] = ()


def rows_of(trial: Trial, line: LineEntry | None) -> list[Row]:
    """What can be said of a line, in order: what holds for all codes, then what its own code takes."""
    from keel.lines.codes import EVERY

    code = trial.code if trial.code != "auto" or line is None else line.code
    roles = EVERY[code].roles if code in EVERY else ()
    rows = [
        Row("code", "code", "how bits are said", ("auto", *EVERY)),
        Row("rate", "rate or bit time", "115200, 500k, 2us; 500k 2M with a data phase"),
        Row("tolerance", "tolerance", "how far the bits may be off that and still set it, as 2%"),
        Row("inverted", "rests low", "yes or no", ("yes", "no")),
        Row("threshold", "threshold", "volts where low and high part"),
        Row("hysteresis", "hysteresis", "volts about it in which nothing counts"),
        Row("roles", "roles", "CHANNEL=ROLE …" + (f", of {', '.join(roles)}" if roles else "")),
        Row("made", "made channel", "NAME=difference(A,B), inverted(A), lowpass(A,10us) or threshold(A,2.5V)"),
    ]
    takes = EVERY[code].takes if code in EVERY else {}
    rows += [Row(name, name.replace("_", " "), said, _among(said)) for name, said in takes.items()]
    return [*rows, Row(FORM, "bytes shown", "in hex, in decimal or as text; X does so too", FORMS)]


def _among(said: str) -> tuple[str, ...]:
    """The values of a setting, where its words list them."""
    if said == "yes or no":
        return ("yes", "no")
    first, to, last = said.partition(" to ")
    if to and first.isdecimal() and last.isdecimal() and int(last) - int(first) < 10:
        return tuple(str(number) for number in range(int(first), int(last) + 1))
    parts = said.split(", ")
    return tuple(parts) if len(parts) > 1 and not any(" " in part for part in parts) else ()


# Painting.


def reading_lines(here: Here, trial: Trial, errand: Errand[Tried], line: LineEntry | None, rows: int) -> list[Line]:
    """What is said, and what comes of it."""
    style = here.style
    heading = here.line()
    at = heading.put(2, f"read {trial.bus} as", style("strong", bold=True)) + 3
    heading.put(at, "what is empty is found; nothing changes until r reads it so", style("dim"), here.width - at - 1)
    listed = rows_of(trial, line)
    is_wide = here.width >= LEAST_BESIDE
    effect = _effect(here, trial, errand, line)
    room = max(rows - 1 - (0 if is_wide else min(len(effect), 4)), 3)
    first = min(max(trial.row - room + 1, 0), max(len(listed) - room, 0))
    lines = [heading]
    for place, row in enumerate(listed[first : first + room], first):
        lines.append(_row(here, row, trial, line, place == trial.row, BESIDE if is_wide else here.width))
    if not is_wide:
        return [*lines, *(_said(here, 2, text, role) for text, role in effect)][:rows]
    while len(lines) < min(len(effect) + 1, rows):
        lines.append(here.line())
    for target, (text, role) in zip(lines[1:], effect, strict=False):
        target.put(BESIDE + 2, "│", style("line"))
        target.put(BESIDE + 4, text, style(role), here.width - BESIDE - 5)
    return lines[:rows]


def _said(here: Here, at: int, text: str, role: str) -> Line:
    line = here.line()
    line.put(at, text, here.style(role), here.width - at - 1)
    return line


def _row(here: Here, row: Row, trial: Trial, known: LineEntry | None, in_hand: bool, wide: int) -> Line:
    on = "raised" if in_hand else "ink"
    line = here.line()
    if in_hand:
        line.ground(here.style("text", on), 1, wide)
    line.put(2, row.label, here.style("strong" if in_hand else "dim", on), LABEL)
    value = here.state.of(LineChoices).form if row.name == FORM else trial.value(row.name)
    is_said = bool(value) and value != "auto"
    shown = value if is_said else f"found{_found(row.name, known)}"
    at = line.put(3 + LABEL, shown, here.style("brass" if is_said else "text", on, is_said), wide - LABEL - 4) + 2
    if in_hand:
        hint = "← →" if row.among else "enter types it"
        line.put(at, f"{hint}  {row.expected}", here.style("faint", on), max(wide - at - 1, 0))
    return line


def _found(name: str, line: LineEntry | None) -> str:
    """What was found of something, as the line stands."""
    if line is None:
        return ""
    found = {
        "code": line.code,
        "rate": words.count(round(line.rate)) + (f" {words.count(round(line.fast_rate))}" if line.fast_rate else ""),
        "inverted": "yes" if line.inverted else "no",
        "roles": " ".join(f"{channel}={role}" for channel, role in line.channels.items() if role != "line"),
    }
    value = found.get(name) or line.settings.get(name)
    return f": {value:g}" if isinstance(value, float) else f": {value}" if value else ""


def _effect(here: Here, trial: Trial, errand: Errand[Tried], known: LineEntry | None) -> list[tuple[str, str]]:
    """What comes of it, in lines of text and their colours; beside it what the line is now."""
    found: list[tuple[str, str]] = []
    result = errand.result
    if errand.trouble:
        found.append((f"✕ {errand.trouble}", "coral"))
    elif result is None or errand.running:
        found.append(("trying…", "brass"))
    else:
        of = "the lens" if result.span.end >= here.lens.end - 1 else f"its first {words.length(_length(result))}"
        good = result.frames - result.faulty
        role = "sea" if result.frames and not result.faulty else "coral" if not good else "brass"
        count = f"{words.count(result.frames)} frame{'s' if result.frames != 1 else ''}"
        faulty = f"{words.count(result.faulty)} faulty" if result.faulty else "none faulty"
        effect = f"{count}, {faulty}, explains {result.explained:.0%} of {of}" if result.frames else f"no frame in {of}"
        found.append((f"so: {effect}", role))
        found += [(sentence, "text") for sentence in result.said]
    if known is not None:
        now = f"as it stands: {known.said[0]}" if known.said else "as it stands: not known"
        found.append((now, "dim"))
    wide = max(here.width - (BESIDE if here.width >= LEAST_BESIDE else 0) - 6, 20)
    return [(text, role) for sentence, role in found for text in wrap(sentence, wide, subsequent_indent="  ")]


def _length(tried: Tried) -> int:
    return tried.span.end - tried.span.start


# What people do.


def begin(helm: Helm, trial: Trial) -> None:
    """Begin to say how a line is read."""
    choices = helm.state.of(LineChoices)
    helm.change("read as", helm.state.having(replace(choices, trial=trial, task=None)))


def _trial(helm: Helm) -> Trial | None:
    return helm.state.of(LineChoices).trial


def _change(helm: Helm, said: str, trial: Trial | None, joins: bool = False) -> None:
    helm.change(said, helm.state.having(replace(helm.state.of(LineChoices), trial=trial)), joins)


def _move(by: int, known: Callable[[Here], LineEntry | None]) -> Callable[[Helm], None]:
    def move(helm: Helm) -> None:
        trial = _trial(helm)
        if trial is not None:
            most = len(rows_of(trial, known(helm.here))) - 1
            row = min(max(trial.row + by, 0), most)
            helm.quietly(helm.state.having(replace(helm.state.of(LineChoices), trial=replace(trial, row=row))))

    return move


def _row_in_hand(helm: Helm, known: Callable[[Here], LineEntry | None]) -> tuple[Trial, Row] | None:
    trial = _trial(helm)
    if trial is None:
        return None
    listed = rows_of(trial, known(helm.here))
    return trial, listed[min(trial.row, len(listed) - 1)]


def _turn(by: int, known: Callable[[Here], LineEntry | None]) -> Callable[[Helm], None]:
    """The next value of what is in hand, or the one before; between the last and the first it is found."""

    def turn(helm: Helm) -> None:
        found = _row_in_hand(helm, known)
        if found is None:
            return
        trial, row = found
        if not row.among:
            helm.tell(f"{row.label}: enter types it; {row.expected}", 3)
            return
        if row.name == FORM:
            next_form(helm, by)
            return
        values = row.among if row.name == "code" else ("", *row.among)
        now = trial.value(row.name)
        place = values.index(now) if now in values else 0
        _change(helm, f"read as: {row.label}", trial.with_value(row.name, values[(place + by) % len(values)]), True)

    return turn


def _type(known: Callable[[Here], LineEntry | None]) -> Callable[[Helm], None]:
    def begin_typing(helm: Helm) -> None:
        found = _row_in_hand(helm, known)
        if found is None or found[1].name == FORM:
            return
        trial, row = found

        def typed(text: str) -> None:
            fresh = trial.with_value(row.name, text.strip())
            # What is not to be understood is said at once, and what was said before stays.
            fresh.anew()
            _change(helm, f"read as: {row.label}", fresh)

        hint = f"{row.expected}; empty: found   enter   esc leave"
        helm.windows.text(f"{trial.bus}: {row.label}", hint, trial.value(row.name), typed, empty=True)

    return begin_typing


def _clear(known: Callable[[Here], LineEntry | None]) -> Callable[[Helm], None]:
    def clear(helm: Helm) -> None:
        found = _row_in_hand(helm, known)
        if found is not None and found[1].name != FORM:
            trial, row = found
            _change(helm, f"read as: {row.label}", trial.with_value(row.name, ""))

    return clear


def next_form(helm: Helm, by: int = 1) -> None:
    """Bytes in hex, in decimal or as text."""
    choices = helm.state.of(LineChoices)
    form = FORMS[(FORMS.index(choices.form) + by) % len(FORMS)]
    helm.change("bytes", helm.state.having(replace(choices, form=form)), True)


def _leave(helm: Helm) -> None:
    _change(helm, "read as", None)


def actions_of(known: Callable[[Here], LineEntry | None], read: Callable[[Helm, Trial], None]) -> Sequence[Action]:
    """What can be done while it is said how a line is read.

    Args:
        known: Gives the line in hand, if there is one.
        read: Reads the line so, for good.
    """

    def take(helm: Helm) -> None:
        trial = _trial(helm)
        if trial is not None:
            read(helm, trial)

    return (
        Action(("up", "k"), "↑ ↓", "what", "What is said of the line: the row above", _move(-1, known)),
        Action(("down", "j"), "↓", "", "What is said of the line: the row below", _move(1, known)),
        Action(("left",), "← →", "turn", "The value before", _turn(-1, known)),
        Action(("right",), "→", "", "The next value", _turn(1, known)),
        Action(("enter",), "enter", "type", "Type a value", _type(known)),
        Action(("delete", "minus"), "del", "found again", "Have it found again", _clear(known)),
        Action(("r",), "r", "read it so", "Read the whole line so", take),
        Action(("escape",), "esc", "leave", "Leave the line as it was read", _leave),
    )
