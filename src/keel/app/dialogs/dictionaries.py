"""The dictionary picker: which dictionaries are used, in which order, and which files there are to add."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from keel.app.dialogs.dialogs import BOX
from keel.model.safe_text import plain
from keel.store.manifest import DictionaryEntry, Manifest

SUFFIXES = (".dbc", ".toml")
MOST_FILES = 40


@dataclass(frozen=True)
class Answer:
    """What is to be done.

    ``use`` a file, ``drop`` the dictionary of a place, put it ``first``, or on the next ``bus``.
    """

    do: str
    place: int = 0
    path: str = ""


def files_here(folder: Path) -> list[Path]:
    """Dictionary files in a folder; a TOML file only if it begins as Keel's do."""
    found = []
    for path in sorted(p for p in folder.iterdir() if p.suffix.lower() in SUFFIXES and p.is_file()):
        if path.suffix.lower() == ".toml":
            try:
                with path.open("rb") as file:
                    if b"keel" not in file.read(400):
                        continue
            except OSError:
                continue
        found.append(path)
    return found[:MOST_FILES]


class Dictionaries(ModalScreen[Answer | None]):
    """The picker. Gives back one thing to do; it is opened again with what came of it."""

    DEFAULT_CSS = (
        "Dictionaries {"
        + BOX
        + """}
    Dictionaries Vertical { width: 104; max-width: 96%; height: auto; max-height: 84%; background: $panel; padding: 1; }
    Dictionaries OptionList { height: auto; max-height: 16; border: none; background: $panel; padding: 0; margin: 1 0; }
    Dictionaries OptionList:focus { border: none; }
    Dictionaries Input { border: none; height: 1; padding: 0; background: $background; margin: 0 0 1 0; }
    Dictionaries .dim { color: #6b7a88; }
    """
    )
    BINDINGS = [
        Binding("escape", "leave", show=False),
        Binding("f", "first", show=False),
        Binding("b", "bus", show=False),
    ]

    def __init__(self, manifest: Manifest, folder: Path) -> None:
        super().__init__()
        self._manifest = manifest
        self._used = manifest.dictionaries
        known = {d.source for d in self._used}
        self._files = [f for f in files_here(folder) if str(f.resolve()) not in known]

    def compose(self) -> ComposeResult:
        """What is used, what there is, the path of another."""
        own = self._manifest.dictionary
        signals = sum(len(m.signals) for m in own.messages)
        with Vertical():
            yield Static("dictionaries: what the bytes mean; the first has precedence", markup=False)
            yield Static(
                f"  always first: the recording's own, {len(own.messages)} messages, {signals} signals",
                classes="dim",
                markup=False,
            )
            options = [Option(Text(_used_words(i, d))) for i, d in enumerate(self._used, 2)]
            options += [Option(Text(f"○  {plain(f.name)}  here, not used")) for f in self._files]
            if options:
                yield OptionList(*options)
            else:
                yield Static("  no other is used, and none lies in this folder", classes="dim", markup=False)
            yield Static("the path of another file (.dbc or .toml)", classes="dim", markup=False)
            yield Input("", id="path", compact=True)
            keys = "enter use it, or drop it    f put first    b for one bus    tab path    esc leave"
            yield Static(keys, classes="dim", markup=False)

    @property
    def _place(self) -> int:
        lists = self.query(OptionList)
        return (lists.first().highlighted or 0) if lists else -1

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Drop what is used, use what is not."""
        if event.option_index < len(self._used):
            self.dismiss(Answer("drop", event.option_index))
        else:
            self.dismiss(Answer("use", path=str(self._files[event.option_index - len(self._used)])))

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Use this file."""
        if event.value.strip():
            self.dismiss(Answer("use", path=event.value.strip()))

    def action_first(self) -> None:
        """Before all others."""
        if 0 <= self._place < len(self._used):
            self.dismiss(Answer("first", self._place))

    def action_bus(self) -> None:
        """For the next bus alone, or for all again."""
        if 0 <= self._place < len(self._used):
            self.dismiss(Answer("bus", self._place))

    def action_leave(self) -> None:
        """Nothing more."""
        self.dismiss(None)


def _used_words(number: int, entry: DictionaryEntry) -> str:
    where = f"bus {entry.bus}" if entry.bus else "all buses"
    return f"{number}  {plain(entry.name)}  for {plain(where)}  from {plain(entry.source)}"


def changed(entries: list[DictionaryEntry], answer: Answer, buses: list[str]) -> list[DictionaryEntry]:
    """The dictionaries in use after what was chosen, but for a new one."""
    one, rest = entries[answer.place], [e for i, e in enumerate(entries) if i != answer.place]
    if answer.do == "drop":
        return rest
    if answer.do == "first":
        return [one, *rest]
    order = ["", *buses]
    bus = order[(order.index(one.bus) + 1) % len(order)] if one.bus in order else ""
    moved = DictionaryEntry(one.name, one.source, one.digest, one.file, bus)
    return [moved if i == answer.place else e for i, e in enumerate(entries)]
