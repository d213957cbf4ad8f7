"""The app: it wires views, desk, windows and what stands around them. No view's business is here."""

from __future__ import annotations

import gc
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from subprocess import Popen
from typing import TYPE_CHECKING, Any, ClassVar

from textual import events, work
from textual.app import ComposeResult
from textual.binding import Binding

from keel.app.dialogs.asking import Asking
from keel.app.everywhere import everywhere, look_at
from keel.app.frame.action import Action
from keel.app.frame.ask_line import AskLine, result_words
from keel.app.frame.command_palette import KeelCommands
from keel.app.frame.head import Head
from keel.app.frame.helm import Here
from keel.app.frame.key_line import KeyLine
from keel.app.frame.stage import Stage
from keel.app.frame.tape import Tape
from keel.app.frame.view import View
from keel.app.frame.view_bar import ViewBar
from keel.app.in_order import InOrder
from keel.app.paint.canvas import Sheet
from keel.app.paint.palette import DARK, LIGHT, Palette
from keel.app.reader import Reader
from keel.app.shared.history import History, Step, Undoable
from keel.app.shared.state import State
from keel.app.shared.trouble import NothingYet
from keel.app.starting import open_library
from keel.app.terminal import LOOK_EVERY_S, has_terminal
from keel.app.views.every import DOORS

if TYPE_CHECKING:
    from keel.app.desk.deeds import Plan
    from keel.app.desk.making import Wish
    from keel.app.desk.picture import Picture, Trouble
    from keel.ask.nodes import Scene


class KeelApp(InOrder):
    """Keel."""

    TITLE = "Keel"
    CSS = """
    Screen { background: $background; }
    ModalScreen { background: $background 60%; }
    ToastRack { margin-bottom: 2; }
    """
    COMMANDS: ClassVar[set[Any]] = {KeelCommands}
    BINDINGS: ClassVar[list[Any]] = [Binding("ctrl+c", "leave", show=False, priority=True)]

    def __init__(self, folder: Path | None, recorder: Popen[bytes] | None = None, view: str = "") -> None:
        super().__init__()
        self.palette: Palette = DARK
        self.state = replace(State(folder=folder), view=view) if view else State(folder=folder)
        self.history = History()
        self.reader = Reader(self._take, self.call_later, recorder)
        self.recorders: list[Popen[bytes]] = []
        self.views: dict[str, View] = {}
        self.windows = Asking(self)
        self.everywhere = everywhere(self)
        self.head = Head(folder.stem if folder else "", recorder is not None)
        self.tape, self.stage = Tape(lambda span: look_at(self, span)), Stage(self, self._room)
        self.bar, self.keys = ViewBar(DOORS, self.go), KeyLine(self.perform)
        self.asking = AskLine(self._names, self._ask, self._show)

    def compose(self) -> ComposeResult:
        """Head, tape, names, the view, ask, keys."""
        yield from (self.head, self.tape, self.bar, self.stage, self.asking, self.keys)

    def on_mount(self) -> None:
        """Paint the first screen; then load what it takes to fill it."""
        for palette in (DARK, LIGHT):
            self.register_theme(palette.theme())
        self.theme = self.palette.name
        self._show()
        if self.state.folder is None:
            open_library(self, self.record, self.exit)
        if has_terminal():
            self.set_interval(LOOK_EVERY_S, self._leave_without_terminal)
        self.call_after_refresh(self._furnish)

    def _leave_without_terminal(self) -> None:
        """End when nobody can see it any more."""
        if not has_terminal():
            self.exit()

    @work(thread=True)
    def _furnish(self) -> None:
        """Load the views behind the first screen, then put them in."""
        views = {door.name: door.load() for door in DOORS}
        self.call_from_thread(self._move_in, views)

    def _move_in(self, views: dict[str, View]) -> None:
        self.views = views
        gc.enable()
        self.quietly(self.state)

    def on_unmount(self) -> None:
        """Stop reading, and what the app itself has recorded."""
        from keel.sources.launch import end

        self.reader.close()
        for recorder in self.recorders:
            end(recorder)

    # What is shown.

    @property
    def picture(self) -> Picture | None:
        """The newest picture."""
        return self.reader.picture

    @property
    def received(self) -> float:
        """When it came."""
        return self.reader.received

    @property
    def view(self) -> View:
        """The view that is open."""
        return self.views[self.state.view]

    @property
    def actions(self) -> tuple[Action, ...]:
        """What can be done in it, its own actions first."""
        return (*self.view.acting(self.state), *self.everywhere) if self.views else self.everywhere

    @property
    def groups(self) -> list[tuple[str, tuple[Action, ...]]]:
        """The same, under the name of what they belong to."""
        title = next(door.title for door in DOORS if door.name == self.state.view)
        return [*([(title, self.view.acting(self.state))] if self.views else []), ("all", self.everywhere)]

    @property
    def doors(self) -> list[tuple[str, str, str]]:
        """Name, key and title of each view."""
        return [(door.name, door.key, door.title) for door in DOORS]

    @property
    def here(self) -> Here:
        """What is on the screen.

        Raises:
            NothingYet: there is no picture.
        """
        if self.picture is None or not self.views:
            raise NothingYet(self.reader.why or "the recording is being opened")
        return Here(self.state, self.picture, self.palette, self.stage.size.width, self.stage.size.height)

    def _take(self, news: Picture | Trouble) -> None:
        """Something came from the desk."""
        from keel.app.desk.picture import Trouble

        if isinstance(news, Trouble):
            if news.damaged:
                self.head.say_damaged()
            self.tell_once(self.reader.why or news.sentence)
        else:
            said = news.snapshot.manifest.notes
            for sentence in (*news.troubles, *said):
                self.tell_new(sentence, error=sentence not in said)
        self._show()
        self._wish()

    def _show(self) -> None:
        with self.telling():
            self.bar.show(self.state.view)
            self.asking.show(self.state.ask)
            self.keys.show(self.actions, self.asking.typing)
            if self.picture is not None:
                self.head.show(self.picture, self.state.held)
                self.tape.show(self.picture)
            has_all = self.picture is not None and bool(self.views)
            view, here = (self.view, self.here) if has_all else (None, None)
            self.stage.show(view, here, self.reader.why)
            self._say_result()

    def _say_result(self) -> None:
        """Say how many frames there are and where the row in hand stands."""
        picture = self.picture
        if picture is None or not self.views or self.asking.typing:
            return
        if picture.ask_error:
            self.asking.result.say(f"no frames: the ask cannot be used, {picture.ask_error}", "coral")
            return
        text = result_words(picture, self.view.standing(self.here))
        self.asking.result.say(" · ".join((text, *picture.hints)), "brass" if picture.hints else "dim")

    def _names(self) -> tuple[Scene | None, tuple[int, ...]]:
        """What asks are checked against: the names there are, and the identifiers."""
        return (self.picture.scene, tuple(self.picture.census)) if self.picture is not None else (None, ())

    def _wish(self) -> None:
        if self.state.folder is not None and self.views:
            with self.telling():
                self.reader.wish(self._wanted(self.state.folder))

    def _wanted(self, folder: Path) -> Wish:
        from keel.app.desk.making import Wish

        s, view = self.state, self.view
        want = view.wants(self.here) if self.picture is not None else view.at_first()
        return Wish(folder, s.lens, s.ask, s.held, self.tape.cells, view.counts, want)

    def _room(self) -> None:
        """There is another room to fill."""
        self._show()
        self._wish()

    # The helm.

    def change(self, words: str, state: State, joins: bool = False) -> None:
        """Look at something else; can be undone."""
        if state != self.state:
            self.history.push(words, self.state, joins=joins)
            self.quietly(state)

    def quietly(self, state: State) -> None:
        """Look at something else without a step to undo."""
        self.state = state
        if state.folder is not None and self.views and state.folder != self.reader.folder:
            self.head.open(state.folder.stem)
            self.reader.picture = None
            self.reader.open(state.folder, self._wanted(state.folder))
        self._show()
        self._wish()

    def edit(self, words: str, plan: Plan, said: Callable[[], str] = lambda: "", state: State | None = None) -> None:
        """Write something into the recording; can be undone."""
        from keel.app.desk.deeds import make

        folder = self.here.picture.wish.folder
        deed = make(self.submit, folder, words, plan, said, self._tell_from_desk)
        self.history.push(words, self.state, deed)
        self.quietly(self.state if state is None else state)

    def done(self, words: str, edit: Undoable) -> None:
        """Something was written into the recording that knows how it is undone."""
        self.history.push(words, self.state, edit)
        self._wish()

    def _tell_from_desk(self, sentence: str, error: bool) -> None:
        self.call_later(self.tell, sentence, 8 if error else 4, error)

    def submit(self, job: Callable[[], None]) -> None:
        """Do a job on the desk's thread."""
        self.reader.submit(job)

    def give_up(self) -> bool:
        """Give up what is searched, compared or done behind the views."""
        searched = self.reader.give_up()
        return self.stop_work() or searched

    def back(self) -> None:
        """Undo the last change."""
        self._stepped(self.history.back(self.state), "undone", "there is nothing to undo")

    def forward(self) -> None:
        """Make the change again that was undone."""
        self._stepped(self.history.forward(self.state), "redone", "there is nothing to redo")

    def _stepped(self, step: Step | None, done: str, nothing: str) -> None:
        self.tell(f"{done}: {step.words}" if step is not None else nothing, 1.5)
        if step is not None:
            self.quietly(step.state)

    # Keys and the mouse.

    async def take(self, key: events.Key) -> bool:
        """A key is for the ask that is typed, or else for the view."""
        if self.asking.typing and self.focused is self.asking.input:
            await self.asking.take(key)
            return True
        return self.press(key.key)

    def press(self, key: str) -> bool:
        """Do what a key does in the view that is open; returns whether it does anything."""
        self.reader.give_way()
        door = next((door for door in DOORS if door.key == key), None)
        if door is not None:
            self.go(door.name)
            return True
        action = next((action for action in self.actions if key in action.keys), None)
        if action is not None:
            self.perform(action)
        return action is not None

    def perform(self, action: Action) -> None:
        """Do something."""
        with self.telling():
            action.do(self)

    def go(self, view: str) -> None:
        """Open a view."""
        self.change("view", replace(self.state, view=view))

    def _ask(self, text: str) -> None:
        self.change("ask", replace(self.state, ask=text))

    def begin_ask(self) -> None:
        """Type an ask."""
        self.asking.begin()
        self.keys.show(self.actions, True)

    def turn_colours(self) -> None:
        """Dark or light."""
        self.palette = LIGHT if self.palette is DARK else DARK
        self.theme = self.palette.name
        for sheet in self.screen.query(Sheet):
            sheet.repaint()
        self._show()

    def record(self, sources: Sequence[str], folder: Path) -> None:
        """Have sources recorded, until the app ends."""
        from keel.sources.launch import launch

        recorder = launch(sources, folder)
        self.recorders.append(recorder)
        self.reader.recorder = recorder

    def leave(self) -> None:
        """End, once what is being written is written."""
        self.run_worker(self.leave_when_done())

    def action_leave(self) -> None:
        """End, from any window."""
        self.leave()
