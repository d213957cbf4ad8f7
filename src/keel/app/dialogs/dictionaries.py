"""The dictionary picker: which dictionaries are used, in which order, and which files there are to add."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.widget import Widget
from textual.widgets import Input, OptionList, Static
from textual.widgets.option_list import Option

from keel.app.desk import edits
from keel.app.desk.deeds import Plan
from keel.app.dialogs.window import Window
from keel.model.safe_text import plain
from keel.store.manifest import DictionaryEntry, Manifest

SUFFIXES = (".dbc", ".toml")
MOST_FILES = 40


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


class Dictionaries(Window[Path]):
    """The picker. Gives back a file that is to be used; all else is done at once, and shown."""

    BINDINGS = [Binding("f", "first", show=False), Binding("b", "bus", show=False)]
    DEFAULT_CSS = "Dictionaries Vertical { width: 104; }"

    def __init__(
        self, manifest: Manifest, beside: list[Path], here: list[Path], edit: Callable[[str, Plan], None]
    ) -> None:
        """The dictionaries of a recording.

        Args:
            manifest: The recording's.
            beside: Files beside the recording.
            here: Files in the folder one is in.
            edit: Writes a change, given what it is.
        """
        super().__init__()
        self._manifest, self._edit = replace(manifest), edit
        known = {d.source for d in manifest.dictionaries}
        files = {f.resolve(): (f, "found here") for f in here} | {
            f.resolve(): (f, "found beside the recording") for f in beside
        }
        self._files = [found for path, found in files.items() if str(path) not in known]

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
            options = self._options()
            if options:
                yield OptionList(*options)
            else:
                yield Static("  no other is used, and none was found", classes="dim", markup=False)
            yield Static("the path of another file (.dbc or .toml)", classes="dim", markup=False)
            yield Input("", id="path", compact=True)
            yield Static("", markup=False)
            keys = "enter use it, or drop it    f put first    b for one bus    tab path    esc leave"
            yield Static(keys, classes="dim", markup=False)

    def first(self) -> Widget:
        """The list, if there is one."""
        lists = self.query(OptionList)
        return lists.first() if lists else self.query_one(Input)

    @property
    def _used(self) -> list[DictionaryEntry]:
        return self._manifest.dictionaries

    def _options(self) -> list[Option]:
        options = [Option(Text(_used_words(i, d))) for i, d in enumerate(self._used, 2)]
        return options + [Option(Text(f"○  {plain(f.name)}  {where}")) for f, where in self._files]

    def _change(self, words: str, plan: Plan) -> None:
        """Write a change, and show what came of it."""
        self._edit(words, plan)
        for exchange in plan(self._manifest):
            exchange.make(self._manifest)
        options = self.query_one(OptionList)
        at = options.highlighted or 0
        options.clear_options()
        options.add_options(self._options())
        options.highlighted = min(at, options.option_count - 1) if options.option_count else None

    @property
    def _in_hand(self) -> DictionaryEntry | None:
        """The used dictionary in hand."""
        lists = self.query(OptionList)
        place = (lists.first().highlighted or 0) if lists else -1
        return self._used[place] if 0 <= place < len(self._used) else None

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        """Drop what is used, use what is not."""
        if event.option_index < len(self._used):
            entry = self._used[event.option_index]
            self._change(f"{entry.name} dropped", edits.drop_dictionary(entry))
        else:
            self.dismiss(self._files[event.option_index - len(self._used)][0])

    def on_input_submitted(self, event: Input.Submitted) -> None:
        """Use this file."""
        if event.value.strip():
            self.dismiss(Path(event.value.strip()).expanduser())

    def action_first(self) -> None:
        """Before all others."""
        if self._in_hand is not None:
            self._change(f"{self._in_hand.name} first", edits.dictionary_first(self._in_hand))

    def action_bus(self) -> None:
        """For the next bus alone, or for all again."""
        if self._in_hand is not None:
            self._change(f"{self._in_hand.name} on another bus", edits.dictionary_on_next_bus(self._in_hand))


def _used_words(number: int, entry: DictionaryEntry) -> str:
    where = f"bus {entry.bus}" if entry.bus else "all buses"
    return f"{number}  {plain(entry.name)}  for {plain(where)}  from {plain(entry.source)}"
