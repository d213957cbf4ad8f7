"""What several views let a person do: hold, count from here, narrow, open as frames, begin a try, flag a mark."""

from __future__ import annotations

from dataclasses import replace

from keel.app.desk.edits import NewMark, begin_try
from keel.app.desk.naming import ask_for
from keel.app.frame.action import Action
from keel.app.frame.helm import Choice, Helm, Here
from keel.model.units import NS_PER_S


def hold(helm: Helm) -> None:
    """Hold the picture, or let it go on; not a change to undo."""
    helm.quietly(replace(helm.state, held=not helm.state.held))


HOLD = Action(("space",), "space", "hold", "Hold the picture still, or let it go on", hold)


def now(here: Here) -> int | None:
    """The moment meant by "now": the newest frame of a live recording, else the end of the lens."""
    picture = here.picture
    if not picture.snapshot.frames:
        return None
    return picture.lens.end if picture.wish.lens is not None else picture.snapshot.span.end


def turn_baseline(helm: Helm) -> None:
    """Count anew from now; or, if that is on, from the beginning again."""
    here = helm.here
    picture, state = here.picture, here.state
    if state.baseline is not None:
        helm.change("baseline", replace(state, baseline=None))
        return
    at = now(here)
    if at is None:
        return
    if not picture.snapshot.live:
        # Nothing comes any more: what is looked at later is compared with what was before the lens.
        at = picture.lens.start if picture.wish.lens is not None else picture.whole.start
    helm.change("baseline", replace(state, baseline=at))
    helm.tell(f"baseline at {(at - picture.zero) / NS_PER_S:.1f} s: counts begin there, b ends it", 3)


BASELINE = Action(("b",), "b", "baseline", "Count anew from now, or from the beginning again", turn_baseline)


def narrow(helm: Helm, terms: list[str]) -> None:
    """Only this, or not this: terms that the row in hand says of itself, to choose from."""
    from keel.ask.narrowing import only, without

    if not terms:
        helm.tell("there is nothing in hand to narrow by", 2)
        return
    ask = helm.state.ask
    choices = [Choice(only(ask, term), f"only  {term}") for term in terms]
    choices += [Choice(without(ask, term), f"not   {term}") for term in terms]
    helm.windows.choose(
        "only this, or not this", choices, lambda chosen: helm.change("ask", replace(helm.state, ask=chosen))
    )


def narrowed(helm: Helm, term: str) -> str:
    """The ask in force, narrowed to a term."""
    from keel.ask.narrowing import only

    return only(helm.state.ask, term)


def frames_of(helm: Helm, key: int, frame: int | None = None) -> None:
    """Only an identifier's frames; the one of a number in hand."""
    ask = narrowed(helm, ask_for(helm.here.picture, key))
    helm.change("frames of one", replace(helm.state, view="frames", ask=ask, pick=key, frame=frame))


def new_try(helm: Helm) -> None:
    """Ask what is operated next: marks belong to it from then on."""

    def named(name: str) -> None:
        before = helm.state.attempt
        helm.edit(f"try {name}", begin_try(name, before), state=replace(helm.state, attempt=name))
        helm.tell(f"marks are of “{name}” from now on; Hunt uses the last try, t another", 4)

    hint = "its marks are not mixed with those of earlier tries   enter begin   esc leave"
    helm.windows.text("What do you operate next?", hint, "", named)


NEW_TRY = Action(("n",), "n", "new try", "Begin a new try: marks from now on are of something else", new_try)


def mark(helm: Helm, at: int) -> None:
    """Flag a moment."""
    start = helm.here.picture.zero
    plan = NewMark(at, helm.state.attempt)
    helm.edit("mark", plan, lambda: f"⚑ mark {plan.number} at {(at - start) / NS_PER_S:.1f} s")
