"""What a person gives Hunt to search by: a reading, a series, a value, the bad recording."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from keel.app.desk.readings import no_readings, number_in, reading, readings_of_file
from keel.app.frame.helm import Choice, Helm
from keel.app.frame.other_recordings import choose_recording
from keel.app.paint import words
from keel.app.views.hunt.choices import HuntChoices
from keel.app.views.hunt.search import Sought
from keel.hunt.exact import Known
from keel.model.units import NS_PER_S


def seek(helm: Helm, what: str, sought: Sought) -> None:
    """Look for something else, or by other evidence."""
    choices = replace(helm.state.of(HuntChoices), sought=sought, in_hand=None, top=0)
    helm.change(what, helm.state.having(choices))


def type_reading(helm: Helm) -> None:
    """Type what a display shows."""
    picture, start = helm.here.picture, helm.here.picture.zero
    live = picture.snapshot.live and not helm.state.held
    moment = (picture.snapshot.span.end if live else picture.lens.end) - 1
    given = sum(not r.of for r in picture.snapshot.manifest.readings)

    def typed(text: str) -> None:
        at, number = moment, number_in(text)
        parts = text.replace("@", " ").split()
        if number is None and len(parts) == 2 and (seconds := number_in(parts[1].rstrip("s"))) is not None:
            at, number = start + round(seconds * NS_PER_S), number_in(parts[0])
        if not text:
            helm.edit("readings", no_readings(""))
        elif number is not None:
            said = f"● reading {given + 1}: {number:g} at {words.seconds(at - start, 1)} s"
            helm.edit("reading", reading(at, number, ""), lambda: said)
        else:
            path = Path(text).expanduser()
            helm.behind(lambda _: readings_of_file(path, "", start), lambda plan: helm.edit("readings", plan))

    hint = "a number, or number @ seconds, or the path of a file   empty removes all   enter keep   esc leave"
    title = f"What does the display show, at {words.seconds(moment - start, 1)} s?"
    helm.windows.text(title, hint, "", typed, empty=True)


def use_series(helm: Helm) -> None:
    """Use a log of another instrument."""
    sought = helm.state.of(HuntChoices).sought

    def typed(text: str) -> None:
        series = Path(text).expanduser() if text else None
        seek(helm, "series", replace(sought, mode="carrier", series=series))

    hint = (
        "lines of time and value, by its own clock; or a channel beside the line   enter use   empty: none   esc leave"
    )
    helm.windows.text(
        "The log of another instrument: its path, or a channel's name",
        hint,
        str(sought.series or ""),
        typed,
        empty=True,
    )


def type_value(helm: Helm) -> None:
    """Look for a value or text that is sent."""
    start, sought = helm.here.picture.zero, helm.state.of(HuntChoices).sought

    def typed(text: str) -> None:
        value, at, when = text.partition("@")
        seconds = number_in(when.strip().rstrip("s")) if at else None
        if at and seconds is None:
            value = text
        time = None if seconds is None else start + round(seconds * NS_PER_S)
        known = Known(value.strip(), time) if value.strip() else None
        seek(helm, "value", replace(sought, mode="carrier", known=known))

    hint = "a number or text, and when if you know: 1480 @ 12.5   enter use   empty: none   esc leave"
    helm.windows.text("A value that is sent", hint, "", typed, empty=True)


def turn_against(helm: Helm) -> None:
    """What is wrong in a bad recording; or the candidates again."""
    sought = helm.state.of(HuntChoices).sought
    if sought.mode == "against":
        seek(helm, "what is looked for", replace(sought, mode="carrier", bad=None))
        return

    def against(bad: Path | None) -> None:
        seek(helm, "good against bad", replace(sought, mode="against", bad=bad))

    lens = Choice("\0lens", "what the lens shows, against the rest of this recording")
    first = [(lens, lambda: against(None))] if helm.state.lens is not None else []
    choose_recording(helm, "what is wrong in", against, first)
