"""From the list of recordings into one: opened, imported, recorded anew."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.frame.helm import Choice, Helm
from keel.app.shared.state import State

if TYPE_CHECKING:
    from keel.formats.layout import Layout

TYPED = "\0typed"
BENCH = "bench"


Record = Callable[[Sequence[str], Path], None]
"""Has sources, as people name them, recorded into a new recording."""


def open_library(helm: Helm, record: Record, left: Callable[[], None] = lambda: None) -> None:
    """List the recordings, and do what is chosen.

    Args:
        helm: The app's.
        record: Has sources recorded.
        left: Called if nothing was chosen.
    """
    from keel.app.dialogs.library import Chosen, Library

    def again() -> None:
        open_library(helm, record, left)

    def chosen(answer: Chosen) -> None:
        if answer.folder is not None:
            go_to(helm, answer.folder)
        elif answer.do == "import":
            choose_capture(helm, again)
        elif answer.do == "record":
            choose_source(helm, record, again)
        elif answer.do == "demo":
            new_recording(helm, "tern", lambda folder: record([BENCH], folder))
        else:
            left()

    helm.windows.open(Library(), chosen)


def go_to(helm: Helm, folder: Path) -> None:
    """Look at another recording."""
    if folder != helm.state.folder:
        helm.change("recording", State(folder=folder, own=helm.state.own))


def new_recording(helm: Helm, stem: str, record: Callable[[Path], None]) -> None:
    """Have something recorded into a recording of a new name, and look at it."""
    from keel.store.library import new_name

    def begin(folder: Path) -> None:
        record(folder)
        go_to(helm, folder)

    helm.behind(lambda _: new_name(stem), begin)


def choose_source(helm: Helm, record: Record, left: Callable[[], None]) -> None:
    """Choose what is recorded."""
    from keel.app.dialogs.sources import Sources

    def chosen(sources: tuple[str, ...]) -> None:
        stem = "-".join(dict.fromkeys(source.split(":")[0].split()[0].strip("'") for source in sources))
        new_recording(helm, stem[:40], lambda folder: record(sources, folder))

    helm.windows.open(Sources(), chosen, left)


def choose_capture(helm: Helm, left: Callable[[], None]) -> None:
    """Choose a capture to import, and look at its recording."""
    from keel.app.dialogs.beside import look_beside

    def choices() -> list[Choice]:
        found = [Choice(str(path), f"{path.name}   {kind}") for path, kind in look_beside(Path.cwd()).captures]
        return [*found, Choice(TYPED, "another: type its path")]

    def chosen(value: str) -> None:
        if value != TYPED:
            import_capture(helm, Path(value), left)
            return
        hint = "pcapng, pcap, a text log, a table   enter import   esc leave"
        typed = "The path of the capture"
        helm.windows.text(typed, hint, "", lambda text: import_capture(helm, Path(text).expanduser(), left))

    helm.windows.choose("import", choices, chosen, left)


def import_capture(helm: Helm, file: Path, left: Callable[[], None]) -> None:
    """Import a capture, once; of a delimited text it is asked first how it lies."""
    from keel.app.dialogs.import_preview import NOTHING, ImportPreview

    def recognised(head: bytes | None) -> None:
        if head is None:
            _import(helm, file, None, left)
            return

        def taken(layout: Layout) -> None:
            if layout == NOTHING:
                left()
            else:
                _import(helm, file, layout, left)

        helm.windows.open(ImportPreview(file, head), taken)

    helm.behind(lambda _: _head_of_table(file), recognised, left)


def _head_of_table(file: Path) -> bytes | None:
    """The first bytes of a delimited text that is not imported yet; None of anything else.

    Raises:
        KeelError: it cannot be read, or nothing recognises it.
    """
    from keel.formats import delimited
    from keel.formats.preview import HEAD_BYTES
    from keel.formats.registry import recognise
    from keel.store.library import folder_of

    if folder_of(file).exists() or recognise(file)[0] is not delimited.FORMAT:
        return None
    with file.open("rb") as opened:
        return opened.read(HEAD_BYTES)


def _import(helm: Helm, file: Path, layout: Layout | None, left: Callable[[], None]) -> None:
    from keel.app.dialogs.working import Working

    window = Working(f"importing {file.name}", helm.give_up)

    def read(stopped: Callable[[], bool]) -> Path:
        from keel.formats.importing import import_files
        from keel.measure.rates import settle_rates
        from keel.store.library import folder_of

        folder = folder_of(file)
        if not folder.exists():
            folder.parent.mkdir(parents=True, exist_ok=True)
            import_files([file], folder, lambda _, done, total: window.at(done, total, stopped()), layout=layout)
            settle_rates(folder)
        return folder

    def done(folder: Path) -> None:
        window.dismiss(True)
        go_to(helm, folder)

    def failed() -> None:
        window.dismiss(False)
        left()

    helm.windows.open(window, lambda _: None)
    helm.behind(read, done, failed)
