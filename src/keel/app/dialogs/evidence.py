"""The windows in which evidence is given: a reading, a series, a value, the bad recording."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from keel.app.dialogs.dialogs import AskName, Choice, Choose
from keel.app.paint import words
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.app.desk.editing import Editing
    from keel.app.desk.picture import Picture
    from keel.app.steering import Steering
    from keel.app.views.hunt.view import Hunt
    from keel.compare.buses import BusPairs

LENS = "lens"


def ask_evidence(
    shell: Steering, hunt: Hunt, what: Literal["reading", "series", "value", "bad"], picture: Picture, editing: Editing
) -> None:
    """Open the window for one kind of evidence."""
    if what == "reading":
        _reading(shell, picture, editing)
    elif what == "series":
        hint = "lines of time and value; times in seconds, by its own clock   enter use   empty: no series   esc leave"
        proposal = str(hunt.sought.series or "")
        ask = AskName("The log of another instrument: its path", hint, proposal, empty=True)
        shell.push_screen(ask, lambda text: _series(hunt, text))
    elif what == "value":
        hint = "a number or text, and when if you know: 1480 @ 12.5   enter use   empty: none   esc leave"
        shell.push_screen(AskName("A value that is sent", hint, "", empty=True), lambda t: _value(hunt, picture, t))
    else:
        from keel.app.views.compare.run import others

        choices = others(Path(shell.folder)) if shell.folder else []
        if picture.wish.lens is not None:
            choices = [Choice(LENS, "what the lens shows, against the rest of this recording"), *choices]

        def bad(path: Path) -> None:
            hunt.seek_bad(None if str(path) == LENS else path)

        choose_recording(shell, "what is wrong in", choices, bad)


def _reading(shell: Steering, picture: Picture, editing: Editing) -> None:
    from keel.app.desk.readings import reading_in

    moment = shell.moment()
    start = picture.whole.start
    given = sum(not r.of for r in picture.snapshot.manifest.readings)

    def typed(text: str | None) -> None:
        if text is None:
            return
        at, number = moment, text
        parts = text.replace("@", " ").split()
        if len(parts) == 2:
            try:
                at, number = start + round(float(parts[1].rstrip("s").replace(",", ".")) * NS_PER_S), parts[0]
            except ValueError:
                number = text
        try:
            editing.edit("reading", reading_in(at, number, "", start))
        except ValueError as error:
            shell.tell(str(error), 5, True)
            return
        if text:
            shell.tell(f"● reading {given + 1}: {number} at {words.seconds(at - start, 1)} s", 2)

    hint = "a number, or number @ seconds, or the path of a file   empty removes all   enter keep   esc leave"
    title = f"What does the display show, at {words.seconds(moment - start, 1)} s?"
    shell.push_screen(AskName(title, hint, "", empty=True), typed)


def _series(hunt: Hunt, text: str | None) -> None:
    if text is not None:
        hunt.seek_by(series=Path(text).expanduser() if text else None)


def _value(hunt: Hunt, picture: Picture, text: str | None) -> None:
    from keel.hunt.exact import Known

    if text is None:
        return
    value, at, when = text.partition("@")
    try:
        time = picture.whole.start + round(float(when.strip().rstrip("s")) * NS_PER_S) if at else None
    except ValueError:
        value, time = text, None
    hunt.seek_by(known=Known(value.strip(), time) if value.strip() else None)


def choose_recording(shell: Steering, title: str, choices: list[Choice], chosen: Callable[[Path], None]) -> None:
    """Choose a recording from a list, or type its path."""

    def typed(text: str | None) -> None:
        if text:
            chosen(Path(text).expanduser())

    def taken(value: str | None) -> None:
        if value == "":
            shell.push_screen(AskName("The path of the recording", "enter take   esc leave", ""), typed)
        elif value is not None:
            chosen(Path(value))

    shell.push_screen(Choose(title, [*choices, Choice("", "another: type its path")]), taken)


def choose_buses(shell: Steering, buses: BusPairs, matched: Callable[[str, str], None]) -> None:
    """Choose which bus of one recording is which of the other; ``matched`` is called with their names."""
    choices = [
        Choice(f"{i},{j}", f"{'●' if buses.partners[j] == i else '○'} side A's {ours} is side B's {theirs}")
        for i, ours in enumerate(buses.a)
        for j, theirs in enumerate(buses.b)
    ]
    choices += [
        Choice(f",{j}", f"{'●' if buses.partners[j] is None else '○'} side B's {theirs} is none of side A's")
        for j, theirs in enumerate(buses.b)
    ]

    def chosen(answer: str | None) -> None:
        if answer is not None:
            ours, _, theirs = answer.partition(",")
            matched(buses.a[int(ours)] if ours else "", buses.b[int(theirs)])

    shell.push_screen(Choose("which bus is which?", choices), chosen)
