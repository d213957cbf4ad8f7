"""The actions that every view has."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from keel.app.desk import edits
from keel.app.frame.action import Action
from keel.app.frame.helm import Choice, Helm, Offer
from keel.app.frame.steering import mark
from keel.app.shared import asks
from keel.app.starting import open_library
from keel.model.span import Span, moved, with_margin

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.app.frame.view import View

KEEP = "\0keep"
MOST_AT_ONCE = 64
"""So many frames are expected at one moment."""


class Shell(Helm, Protocol):
    """The app, as these actions need it."""

    @property
    def view(self) -> View:
        """The view that is open."""

    @property
    def views(self) -> dict[str, View]:
        """All views, by name."""

    @property
    def everywhere(self) -> tuple[Action, ...]:
        """The actions of every view."""

    @property
    def received(self) -> float:
        """When the newest picture came, by `time.monotonic`."""

    def begin_ask(self) -> None:
        """Have an ask typed."""

    def back(self) -> None:
        """Undo the last change."""

    def forward(self) -> None:
        """Make the change again that was undone."""

    def turn_colours(self) -> None:
        """Dark or light."""

    def record(self, sources: Sequence[str], folder: Path) -> None:
        """Have sources recorded."""

    def leave(self) -> None:
        """End, once what is being written is written."""


def moment(shell: Shell) -> int:
    """The moment meant, in ns: what the view has in hand, or now; in what is over, the end of the lens."""
    here = shell.here
    own = shell.view.moment(here)
    if own is not None:
        return own
    if here.picture.snapshot.live and not here.state.held:
        return here.picture.snapshot.span.end + int((time.monotonic() - shell.received) * 1e9)
    return here.lens.end - 1


def flag(shell: Shell) -> None:
    """Flag a mark."""
    if not shell.here.picture.snapshot.frames:
        shell.tell("there is no frame to mark yet", 2)
        return
    mark(shell, moment(shell))


def move_lens(shell: Shell, change: str) -> None:
    """The lens to earlier or later, halved or doubled."""
    picture, state = shell.here.picture, shell.state
    if picture.snapshot.frames:
        shell.change("lens", replace(state, lens=moved(state.lens or picture.whole, change, picture.whole)))


def _last_of(picture: Picture, key: int) -> int | None:
    """The number of the newest frame of an identifier."""
    matches = picture.matches
    place = matches.at_or_after(picture.census[key].last)
    for rank in range(place, min(place + MOST_AT_ONCE, len(matches))):
        number = int(matches.numbers(rank, rank + 1)[0])
        if int(picture.snapshot.rows(number, number + 1).keys()[0]) == key:
            return number
    return None


def to_waveform(shell: Shell) -> None:
    """The frame in hand, or the newest of the identifier in hand, on its waveform."""
    from keel.probe.aligning import twin_of

    here = shell.here
    picture, pick = here.picture, shell.view.pick(here)
    manifest, snapshot = picture.snapshot.manifest, picture.snapshot
    derived = {line.bus for line in manifest.lines}
    if not manifest.waveforms:
        shell.tell("no waveform is kept in this recording", 2)
        return
    moment, number = shell.view.moment(here), here.state.frame
    if moment is not None and len(picture.matches):
        number = picture.matches.frame_at(moment)
    elif pick is not None and pick in picture.census:
        number = _last_of(picture, pick)
    if number is None or number >= snapshot.frames:
        shell.change("waveform", replace(shell.state, view="line"))
        return
    bus = int(snapshot.rows(number, number + 1).bus[0])
    twin = next((line for line in manifest.lines if line.twin == bus), None)
    if bus in derived:
        _look_at_waveform(shell, number)
    elif twin is not None:
        shell.behind(lambda _: twin_of(snapshot, twin, number), lambda found: _look_at_waveform(shell, found))
    else:
        shell.tell("this frame was not read from a waveform", 3)


def _look_at_waveform(shell: Shell, number: int | None) -> None:
    from keel.media.every import ends_of

    if number is None:
        shell.tell("the probe has no frame like this one at that time", 3)
        return
    snapshot = shell.here.picture.snapshot
    one = snapshot.rows(number, number + 1)
    start = int(one.time[0])
    end = next(iter(ends_of(one, snapshot.manifest.buses))) or start
    state = replace(shell.state, view="line", frame=number, lens=with_margin(start, end))
    line = shell.views["line"]
    shell.change("waveform", line.with_frame(snapshot.manifest, state, int(one.bus[0]), int(one.form[0])))


def named_asks(shell: Shell) -> None:
    """Named asks of the recording and of the user; or keep the one in force under a name."""
    here, ask = shell.here, shell.state.ask

    def kept(name: str) -> None:
        shell.submit(lambda: asks.keep_user_ask(name, ask))
        shell.edit(f"named ask {name}", edits.named_ask(name, ask), lambda: f"kept {name}")

    def chosen(answer: str) -> None:
        if answer == KEEP:
            shell.windows.text("A name for this ask", f"{ask}   enter keep   esc leave", "", kept)
        else:
            shell.change("ask", replace(shell.state, ask=answer))

    def choices() -> list[Choice]:
        here_kept = {a.name: a.text for a in here.picture.snapshot.manifest.asks}
        found = [Choice(KEEP, f"keep “{ask}” under a name")] if ask else []
        found += [Choice(text, f"{name:20}  {text}") for name, text in here_kept.items()]
        mine = asks.user_asks()
        found += [Choice(text, f"{name:20}  {text}   · yours") for name, text in mine.items() if name not in here_kept]
        return found

    shell.windows.choose("named asks; type an ask with / to keep it under a name", choices, chosen)


def dictionaries(shell: Shell) -> None:
    """Which dictionaries are used."""
    from keel.app.dialogs.dictionaries import Dictionaries, files_here

    picture = shell.here.picture
    folder, manifest = picture.wish.folder, picture.snapshot.manifest

    def use(path: Path) -> None:
        from keel.signals.loading import Loaded, load_dictionary

        def loaded(found: Loaded) -> None:
            said = f"{path.name}: {len(found.dictionary.messages)} messages"
            if found.problems:
                count, first = len(found.problems), found.problems[0].words()
                said += f"; {count} statements were passed over, the first at {first}"
            plan = edits.use_dictionary(folder, found)
            shell.edit(f"dictionary {path.stem}", plan, lambda: said)

        shell.behind(lambda _: load_dictionary(path), loaded)

    def look(_: object) -> tuple[list[Path], list[Path]]:
        return files_here(folder.parent), files_here(Path.cwd())

    def found(files: tuple[list[Path], list[Path]]) -> None:
        shell.windows.open(Dictionaries(manifest, *files, shell.edit), use)

    shell.behind(look, found)


def export(shell: Shell) -> None:
    """Choose what to save, and where."""
    from keel.app.dialogs.export import Export
    from keel.app.dialogs.offers import offers_of
    from keel.store.edge import at_the_edge

    here = shell.here
    if here.picture.ask_error:
        shell.tell(f"nothing can be exported: the ask cannot be used, {here.picture.ask_error}", 6, error=True)
        return

    def chosen(answer: tuple[Offer, str]) -> None:
        offer, path = answer

        def save(_: object) -> list[str]:
            given = Path(path).expanduser()
            with at_the_edge(given, "be written"):
                return list(offer.save(given))

        shell.behind(save, lambda lost: exported(path, lost))

    def exported(path: str, lost: list[str]) -> None:
        shell.tell("; ".join((f"exported {path}", *lost)), 8 if lost else 4, bool(lost))

    shell.windows.open(Export(offers_of(shell.view, here)), chosen)


def look_at(shell: Shell, span: Span) -> None:
    """The lens on a span of the tape; a moment alone moves the lens there, or what the view has in hand."""
    state, whole, lens = shell.state, shell.here.picture.whole, shell.state.lens
    if span.end > span.start:
        shell.change("lens", replace(state, lens=span))
    elif shell.view.to_moment(shell, span.start):
        return
    elif lens is not None:
        half = (lens.end - lens.start) // 2
        shell.change("lens", replace(state, lens=Span(span.start - half, span.start + half).clipped(whole)))


def open_guide(shell: Shell) -> None:
    """Explain."""
    from keel.app.dialogs.guide import Guide
    from keel.app.views.every import DOORS

    doors = [(door, shell.views[door.name].actions) for door in DOORS if door.name in shell.views]
    shell.windows.open(Guide(doors, shell.everywhere), lambda _: None)


def everywhere(shell: Shell) -> tuple[Action, ...]:
    """The actions of every view, in the order of the key line."""

    def to(do: Callable[[Shell], None]) -> Callable[[Helm], None]:
        return lambda _: do(shell)

    def lens(change: str) -> Callable[[Helm], None]:
        return lambda _: move_lens(shell, change)

    def all_of_it(_: Helm) -> None:
        shell.change("lens", replace(shell.state, lens=None))

    def act(do: Callable[[], None]) -> Callable[[Helm], None]:
        return lambda _: do()

    formats = "Export a drawing, frames or values (CSV, Parquet), a report (HTML, JSON)"
    return (
        Action(("D",), "D", "", "The dictionaries that are used: add, drop, order", to(dictionaries)),
        Action(("m",), "m", "mark", "Flag a mark: now, or at the frame in hand", to(flag), True),
        Action(("slash",), "/", "ask", "Type an ask", act(shell.begin_ask), True),
        Action(("A",), "A", "", "Named asks: use one, or keep the present one under a name", to(named_asks)),
        Action(("backspace",), "⌫", "back", "Undo the last change", act(shell.back), True),
        Action(("greater_than_sign",), ">", "", "Redo the change that was undone", act(shell.forward)),
        Action(("e",), "e", "export", formats, to(export)),
        Action(("left_square_bracket",), "[ ]", "lens", "Move the lens to earlier", lens("earlier")),
        Action(("right_square_bracket",), "]", "", "Move the lens to later", lens("later")),
        Action(("plus", "equals_sign"), "+ -", "zoom", "Halve the lens", lens("in")),
        Action(("minus",), "-", "", "Double the lens", lens("out")),
        Action(("0",), "0", "all", "Look at all of the recording", all_of_it),
        Action(("W",), "W", "", "The frame in hand on its waveform", to(to_waveform)),
        Action(("L",), "L", "", "The list of recordings: open another", lambda _: open_library(shell, shell.record)),
        Action(("question_mark",), "?", "guide", "Explain views, keys and the ask", to(open_guide), True),
        Action(("f2",), "F2", "", "Dark or light colours", act(shell.turn_colours)),
        Action(("q", "ctrl+c"), "q", "quit", "Leave", act(shell.leave), True),
    )
