"""Raw conditions: pulses that are too short, silences, runts on the channel in hand, each with a jump to it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from keel.app.frame.action import Action
from keel.app.frame.helm import Helm, Here
from keel.app.paint import words
from keel.app.paint.canvas import Line
from keel.app.paint.table import window
from keel.app.views.line.choices import LineChoices, Sought
from keel.app.views.line.going import go_to
from keel.app.views.line.layout import across
from keel.app.views.line.moments import clock_of
from keel.app.views.line.searching import MOST_LISTED, Finds
from keel.app.views.line.steps import Goal
from keel.app.views.line.wants import LineShown
from keel.model.span import Span

AROUND = 12
"""What was found is looked at with so many times its length about it."""


def found_lines(here: Here, shown: LineShown, choices: LineChoices, name: str, rows: int) -> list[Line]:
    """What was found."""
    assert choices.sought is not None
    clock = clock_of(here, across(here))
    heading = here.line()
    at = heading.put(2, f"{choices.sought.text} on {name}", here.style("strong", bold=True)) + 3
    errand = shown.finds
    result = errand.result
    if errand.trouble:
        heading.put(at, f"✕ {errand.trouble}", here.style("coral"))
        return [heading]
    if result is None:
        said = "given up" if errand.given_up else "looking…   esc gives up"
        heading.put(at, said, here.style("brass"))
        return [heading]
    if not result.total:
        heading.put(at, "never", here.style("text"))
        return [heading]
    count = "once" if result.total == 1 else f"{words.count(result.total)} times"
    listed = f", the first {words.count(MOST_LISTED)} are listed" if result.total > MOST_LISTED else ""
    heading.put(at, f"{count}{listed}   moments in {clock.unit}", here.style("dim"))
    lines = [heading]
    room = max(rows - 1, 1)
    top = window(choices.row, max(choices.row - room // 2, 0), room, len(result.spans))
    for place, (start, end) in enumerate(result.spans[top : top + room], top):
        is_held = place == choices.row
        on = "raised" if is_held else "ink"
        line = here.line(on)
        if is_held:
            line.put(0, "▌", here.style("brass", on))
        line.put(2, words.count(place + 1), here.style("dim", on), 8, True)
        line.put(12, clock.moment(start), here.style("text", on), 22, True)
        line.put(37, f"lasts {words.length(end - start)}", here.style("text", on), 24)
        lines.append(line)
    return lines


def _finds(here: Here) -> Finds | None:
    shown = here.picture.part(LineShown)
    return shown.finds.result if shown is not None else None


def _go(helm: Helm, row: int) -> None:
    finds = _finds(helm.here)
    if finds is None or not finds.spans:
        return
    row = min(max(row, 0), len(finds.spans) - 1)
    helm.quietly(helm.state.having(replace(helm.state.of(LineChoices), row=row)))
    start, end = finds.spans[row]
    around = AROUND * max(end - start, 1)
    go_to(helm, Goal(start, Span(start - around, end + around)))


def _move(by: int) -> Callable[[Helm], None]:
    return lambda helm: _go(helm, helm.state.of(LineChoices).row + by)


def _leave(helm: Helm) -> None:
    if not helm.give_up():
        choices = replace(helm.state.of(LineChoices), sought=None, pane="")
        helm.change("search away", helm.state.having(choices))


def ask_condition(helm: Helm, channel: int, name: str) -> None:
    """Have a condition typed, and look for it."""
    from keel.probe.conditions import EXPECTED, parse_condition

    def typed(text: str) -> None:
        parse_condition(text)
        choices = helm.state.of(LineChoices)
        sought = Sought(channel, text.strip())
        helm.change("search", helm.state.having(replace(choices, sought=sought, pane="found", row=0, task=None)))

    last = helm.state.of(LineChoices).sought
    helm.windows.text(f"Look on {name} for", f"{EXPECTED}   enter look   esc leave", last.text if last else "", typed)


ACTIONS = (
    Action(("up", "k"), "↑ ↓", "go there", "The find before", _move(-1)),
    Action(("down", "j"), "↓", "", "The next find", _move(1)),
    Action(("pageup",), "PgUp", "", "Ten finds back", _move(-10)),
    Action(("pagedown",), "PgDn", "", "Ten finds on", _move(10)),
    Action(("enter",), "enter", "here", "To the find in hand", _move(0)),
    Action(("escape",), "esc", "leave", "Give up looking, or leave what was found", _leave),
)
