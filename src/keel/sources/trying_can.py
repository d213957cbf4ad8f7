"""Trying CAN out: only listening, at the rate that is set or, where that is permitted, at the usual ones."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from keel.sources import interfaces
from keel.sources.interfaces import Interface
from keel.sources.kind import Given, Verdict
from keel.sources.listening import ALONE, Heard, listen
from keel.sources.source import Source, SourceGone

USUAL = (500_000, 250_000, 125_000, 1_000_000, 100_000, 50_000, 800_000, 20_000, 10_000)
"""Bit rates, the most usual first."""
LISTEN_S, AT_EACH_S = 2.0, 0.8
ENOUGH = 5
"""So many good frames are no chance."""

Stopped = Callable[[], bool]


def words_for(heard: Heard, rate: int) -> str:
    """What was heard at a rate."""
    return heard.words + (f" at {rate / 1000:g} kbit/s" if rate and (heard.good or heard.faulty) else "")


def _notes(heard: Heard) -> tuple[str, ...]:
    return (ALONE,) if heard.is_alone else ()


def _best(found: Sequence[tuple[int, Heard]]) -> Verdict:
    """The verdict on several rates."""
    rate, heard = max(found, key=lambda one: (one[1].good - one[1].faulty / 1000, one[1].faulty))
    if heard.good:
        return Verdict(words_for(heard, rate), True, {"rate": rate}, _notes(heard))
    if any(one.faulty for _, one in found):
        at = words_for(heard, rate) if len(found) == 1 else "traffic, but only faults at all usual rates"
        return Verdict(at, False, {}, _notes(heard))
    return Verdict("no traffic")


def try_rates(given: Given, stopped: Stopped, open_at: Callable[[int], Source], seconds: float = AT_EACH_S) -> Verdict:
    """Listen through an adapter, at the rate that was named or at the usual ones; ``open_at`` opens it at one, only
    listening."""
    rates = [given.values["rate"]] if "rate" in given.said else list(USUAL)
    found: list[tuple[int, Heard]] = []
    problem = ""
    for rate in rates:
        if stopped():
            break
        try:
            source = open_at(rate)
        except SourceGone as error:
            if "refuses to only listen" in error.what:
                return Verdict("not tried: the adapter cannot only listen, and what takes part may disturb")
            if "refuses" not in error.what:
                return Verdict(f"{error.what}")
            problem = error.what
            continue
        try:
            found.append((rate, _listen_well(source, seconds, stopped)))
        except SourceGone as error:
            return Verdict(error.what)
        finally:
            source.close()
        if found[-1][1].good >= ENOUGH:
            break
    return _best(found) if found else Verdict(problem or "not tried")


def try_interfaces(
    given: Given,
    stopped: Stopped,
    source_at: Callable[[str], Source],
    look: Callable[[], list[Interface]] = interfaces.interfaces,
    do: interfaces.Run = interfaces.run,
    may_set: Callable[[], bool] = interfaces.may_set,
    seconds: float = LISTEN_S,
) -> Verdict:
    """Listen at interfaces. One that is up is left as it is; one that is down is taken up only listening, if that is
    permitted, and down again."""
    verdicts = [_try_one(name, stopped, look, source_at, do, may_set, seconds) for name in given.places]
    if len(verdicts) == 1:
        return verdicts[0]
    words = "; ".join(f"{name}: {one.words}" for name, one in zip(given.places, verdicts, strict=True))
    return Verdict(words, all(one.good for one in verdicts), {}, tuple(n for one in verdicts for n in one.notes))


def _listen_well(source: Source, seconds: float, stopped: Stopped) -> Heard:
    """Listen for a moment, and where something comes for as long again as it takes to hear who talks seldom."""
    heard = listen(source, seconds, stopped)
    if heard.good < ENOUGH:
        return heard
    longer = listen(source, seconds * LISTEN_S / AT_EACH_S, stopped)
    return longer if longer.good > heard.good else heard


def _try_one(
    name: str, stopped: Stopped, look: Callable[[], list[Interface]], source_at: Callable[[str], Source],
    do: interfaces.Run, may_set: Callable[[], bool], seconds: float,
) -> Verdict:  # fmt: skip
    known = {one.name: one for one in look()}
    if name not in known:
        return Verdict("there is no such interface")
    one = known[name]
    if one.is_up:
        try:
            heard = _listen_at(name, source_at, seconds, stopped)
        except SourceGone as error:
            return Verdict(error.what)
        return Verdict(words_for(heard, one.bit_rate), heard.good > 0, {}, _notes(heard))
    command = interfaces.command_for(name, one.bit_rate or USUAL[0])
    if not may_set():
        return Verdict(f"not tried: it is down, and only an administrator may take it up: {command}")
    found: list[tuple[int, Heard]] = []
    for rate in USUAL:
        if stopped():
            break
        wrong = interfaces.set_rate(name, rate, do)
        if wrong:
            return Verdict(f"not tried: it cannot be taken up only listening ({wrong})")
        try:
            found.append((rate, _listen_at(name, source_at, min(AT_EACH_S, seconds), stopped)))
        except SourceGone as error:
            return Verdict(error.what)
        finally:
            interfaces.take_down(name, do)
        if found[-1][1].good >= ENOUGH:
            break
    if not found:
        return Verdict("not tried")
    verdict = _best(found)
    if verdict.good:
        take_up = interfaces.command_for(name, int(verdict.settings["rate"]))
        return Verdict(verdict.words, False, {}, (*verdict.notes, f"it is down again; {take_up} takes it up"))
    return verdict


def _listen_at(name: str, source_at: Callable[[str], Source], seconds: float, stopped: Stopped) -> Heard:
    source = source_at(name)
    try:
        return listen(source, seconds, stopped)
    finally:
        source.close()
