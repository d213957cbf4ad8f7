"""What comes of a hunt: a candidate kept as a signal, a dictionary drafted, the bad recording opened."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.desk import edits
from keel.app.desk.frame_pages import all_matches
from keel.app.frame.helm import Helm
from keel.app.frame.other_recordings import frame_at
from keel.app.views.hunt.search import Result
from keel.hunt.candidates import Candidate
from keel.model.identity import unpack_key

if TYPE_CHECKING:
    from keel.signals.dictionary import Dictionary
    from keel.signals.signal import Signal

TEXT = r'(-?\d+)=("[^"]*"|[^\s,]+)'


def keep_candidate(helm: Helm, result: Result, candidate: Candidate) -> None:
    """Ask for a name, then keep the candidate as a signal.

    Of a multiplexed identifier the selector is kept, too: without it nobody knows when the signal is there.
    """
    from keel.signals.signal import Signal

    picture, key = helm.here.picture, candidate.key
    if candidate.header:
        helm.tell(f"{candidate.header} is a field of the header: it is a signal already, see Values", 3)
        return
    index, form, ident = unpack_key(key)
    bus, known = picture.snapshot.manifest.buses[index].name, picture.messages.get(key)
    structure = result.traffic.structures.get(key)

    def named(text: str) -> None:
        signal = named_signal(text, candidate)
        signals = [signal]
        has_selector = known is not None and known.selector is not None
        if signal.pages and structure is not None and structure.selector is not None and not has_selector:
            signals.append(Signal("page", structure.selector.field, role="selector", found="seen in the structure"))
        plan = edits.keep_signals(bus, form, ident, known.name if known is not None else "", signals)
        said = f"kept {signal.name}: {signal.field.words()} of {picture.name(key)}"
        helm.edit(f"signal {signal.name}", plan, lambda: said)

    title = f"Name for {picture.name(key)} {candidate.field.words()}"
    hint = "name, unit, texts: “angle, °” or “lock 0=free 1=engaged”   enter keep   esc leave"
    helm.windows.text(title, hint, "", named)


def named_signal(text: str, candidate: Candidate) -> Signal:
    """The signal that a person means by a line: its name, its texts as ``0=off``, and a unit after the last comma.

    Words of the name are joined: ``ramp angle, °`` is ``ramp_angle`` in degrees.
    """
    from keel.signals.signal import Signal

    texts = {int(raw): word.strip('"') for raw, word in re.findall(TEXT, text)}
    name, _, unit = re.sub(TEXT, " ", text).partition(",")
    return Signal(
        re.sub(r"\s+", "_", name.strip()) or "signal",
        candidate.field,
        1.0 if candidate.scale is None else candidate.scale,
        0.0 if candidate.offset is None else candidate.offset,
        unit.strip(" ,"),
        texts,
        "flag" if candidate.field.length == 1 else "value",
        () if candidate.page is None else ((candidate.page, candidate.page),),
        found=f"score {candidate.score:.3f}: {candidate.why}",
    )


def draft_dictionary(helm: Helm) -> None:
    """Draft a dictionary of all that the traffic shows, and keep it where nothing is said yet."""
    picture = helm.here.picture

    def draft(stopped: Callable[[], bool]) -> Dictionary:
        from keel.hunt.columns import gather
        from keel.hunt.draft import draft as drafted
        from keel.hunt.traffic import Traffic

        traffic = Traffic.of(gather(all_matches(picture)), stopped)
        return drafted(traffic, picture.snapshot.manifest.bus_names, stopped)

    def keep(drafted: Dictionary) -> None:
        count = sum(len(m.signals) for m in drafted.messages)
        said = f"drafted {len(drafted.messages)} messages, {count} fields; 5 shows them, ⌫ undoes it"
        helm.edit("draft dictionary", edits.keep_draft(drafted), lambda: said)

    helm.tell("drafting a dictionary of all that the traffic shows…", 2)
    helm.behind(draft, keep)


def open_bad(helm: Helm, result: Result, key: int, time: int) -> None:
    """Open the bad recording at a moment of an identifier, in ns."""
    from keel.app.shared.state import State
    from keel.ask.narrowing import of_key

    if result.sought.bad is None or result.buses is None:
        return
    bad, there = result.sought.bad, result.buses.to_b(key)
    if there is None:
        helm.tell("there are no such frames in the bad recording", 3)
        return
    ask = str(of_key(there, result.buses.b[there >> 56]))

    def find(_: object) -> tuple[Path, int]:
        from keel.store.library import find_recording

        folder = find_recording(bad)
        return folder, frame_at(folder, time)

    def open_it(found: tuple[Path, int]) -> None:
        folder, number = found
        state = State(folder=folder, view="frames", ask=ask, frame=number, own=helm.state.own)
        helm.change("jump to the bad recording", replace(state, pick=there))

    helm.behind(find, open_it)
