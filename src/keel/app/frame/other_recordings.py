"""Choosing another recording: those on the shelf and beside this one, or a path that is typed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from keel.app.frame.helm import Choice, Helm
from keel.app.paint.words import duration

TYPED = "\0typed"


def others(folder: Path) -> list[Choice]:
    """The recordings on the shelf and those that lie beside one, but for that one; reads their manifests."""
    from keel.store.library import shelf

    here, beside = folder.resolve(), folder.resolve().parent
    found = {one.folder.resolve(): one for one in (*shelf(beside), *shelf())}
    return [
        Choice(str(one.folder), f"{one.name}  {duration(int(one.seconds * 1e9))}  {one.frames} frames  {one.source}")
        for path, one in found.items()
        if path != here and not one.problem
    ]


def choose_recording(
    helm: Helm, title: str, chosen: Callable[[Path], None], first: Sequence[tuple[Choice, Callable[[], None]]] = ()
) -> None:
    """Choose another recording; ``first`` are things that may be chosen instead, and what is done then."""
    folder = helm.here.picture.wish.folder
    instead = {choice.value: do for choice, do in first}

    def typed(text: str) -> None:
        from keel.store.library import find_recording

        helm.behind(lambda _: find_recording(Path(text).expanduser()), chosen)

    def taken(value: str) -> None:
        if value in instead:
            instead[value]()
        elif value == TYPED:
            helm.windows.text("The path of the recording", "enter take   esc leave", "", typed)
        else:
            chosen(Path(value))

    def choices() -> list[Choice]:
        return [*(choice for choice, _ in first), *others(folder), Choice(TYPED, "another: type its path")]

    helm.windows.choose(title, choices, taken)


def frame_at(folder: Path, time: int) -> int:
    """The number of the first frame of a recording at or after a time, in ns; reads it.

    Raises:
        KeelError: it cannot be opened.
    """
    from keel.compare.sides import Side
    from keel.store.recording import Recording

    return Side.of(Recording(folder).snapshot()).matches.frame_at(time) or 0
