"""From the list of recordings into one: opened, imported, recorded anew."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from keel.app.frame.helm import Choice, Helm
from keel.app.shared.state import State

if TYPE_CHECKING:
    from keel.formats.layout import Layout
    from keel.formats.wave_taken import Taken

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


def go_to(helm: Helm, folder: Path, view: str = "") -> None:
    """Look at another recording, in a view of it if one is named."""
    if folder != helm.state.folder:
        state = State(folder=folder, own=helm.state.own)
        helm.change("recording", replace(state, view=view) if view else state)


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
        hint = "pcapng, pcap, a text log, a table, VCD, WAV, volts   enter import   esc leave"
        typed = "The path of the capture"
        helm.windows.text(typed, hint, "", lambda text: import_capture(helm, Path(text).expanduser(), left))

    helm.windows.choose("import", choices, chosen, left)


@dataclass(frozen=True)
class Kind:
    """What a file is, and its first bytes where a person is asked how it lies."""

    is_waveform: bool
    head: bytes | None = None


def import_capture(helm: Helm, file: Path, left: Callable[[], None]) -> None:
    """Import a capture, once; of a delimited text it is asked first how it lies."""
    from keel.app.dialogs.import_preview import NOTHING, ImportPreview
    from keel.app.dialogs.wave_preview import WavePreview

    def recognised(kind: Kind) -> None:
        if kind.head is None:
            _import(helm, file, kind, None, left)
        elif kind.is_waveform:
            wave = WavePreview(file, kind.head)
            helm.windows.open(wave, lambda taken: _import(helm, file, kind, None, left, taken), left)
        else:
            helm.windows.open(ImportPreview(file, kind.head), lambda layout: taken(kind, layout))

    def taken(kind: Kind, layout: Layout) -> None:
        if layout == NOTHING:
            left()
        else:
            _import(helm, file, kind, layout, left)

    helm.behind(lambda _: _kind_of(file), recognised, left)


def _kind_of(file: Path) -> Kind:
    """What a file is; a text that is imported already is not asked about again.

    Raises:
        KeelError: it cannot be read, or nothing recognises it.
    """
    from keel.errors import UnknownFormat
    from keel.formats import delimited, wav, wave_text
    from keel.formats.preview import HEAD_BYTES
    from keel.formats.registry import recognise
    from keel.formats.waveforms import kind_of
    from keel.store.library import folder_of

    try:
        is_waveform, is_text = False, recognise(file)[0] is delimited.FORMAT
    except UnknownFormat as error:
        try:
            # Of a dump there is nothing to say: its times and levels are plain.
            is_waveform, is_text = True, kind_of(file) in (wave_text.NAME, wav.NAME)
        except UnknownFormat:
            raise error from None
    if folder_of(file).exists() or not is_text:
        return Kind(is_waveform)
    with file.open("rb") as opened:
        return Kind(is_waveform, opened.read(HEAD_BYTES))


def _import(
    helm: Helm,
    file: Path,
    kind: Kind,
    layout: Layout | None,
    left: Callable[[], None],
    waves: Taken | None = None,
) -> None:
    from keel.app.dialogs.working import working

    def make(folder: Path, progress: Callable[[int, int], None]) -> None:
        from keel.formats.importing import import_files
        from keel.measure.rates import settle_rates
        from keel.probe.importing import NOTHING_SAID, Said, import_waveforms

        if kind.is_waveform:
            said = Said(taken=waves, given=tuple(waves.given)) if waves is not None else NOTHING_SAID
            import_waveforms([file], folder, said, progress)
        else:
            import_files([file], folder, lambda _, done, total: progress(done, total), layout=layout)
            settle_rates(folder)

    def where() -> Path:
        from keel.store.library import folder_of

        return folder_of(file)

    view = "line" if kind.is_waveform else ""
    working(helm, f"importing {file.name}", where, make, lambda folder: go_to(helm, folder, view), left)
