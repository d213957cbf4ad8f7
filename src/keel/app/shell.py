"""The shell: what every view shares and the way back, the desk's pictures to the views, keys to actions.

The first screen is painted before the views, and all they need, are loaded: see `_furnish`.
"""

from __future__ import annotations

import gc
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from subprocess import Popen
from typing import TYPE_CHECKING, Any, ClassVar

from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Container

from keel.app.careful import Careful
from keel.app.dialogs.dialogs import Guide
from keel.app.dialogs.library import Shelf
from keel.app.frame.bars import AskLine, KeyLine, ViewBar, result_words
from keel.app.frame.command_palette import KeelCommands
from keel.app.frame.head import Head
from keel.app.frame.tape import Tape
from keel.app.paint.canvas import Line, Sheet
from keel.app.paint.palette import DARK, LIGHT, Palette
from keel.app.shared.actions import ACTIONS, Action, actions_in
from keel.app.shared.state import COMPARE, FRAMES, HEALTH, VALUES, VIEWS, History, State
from keel.errors import AskError, KeelError, RecordingDamaged
from keel.model.span import moved

if TYPE_CHECKING:
    from keel.app.desk.desk import Desk
    from keel.app.desk.editing import Editing
    from keel.app.desk.picture import Picture

KEYS = sorted({key for action in ACTIONS for key in action.keys.split(",")} | {k for k, _ in VIEWS.values()})


class Opening(Sheet):
    """What stands in the views' place until they are loaded."""

    def paint(self, width: int, height: int) -> list[Line]:
        """One line."""
        lines = [self.line(width) for _ in range(3)]
        lines[2].put(4, "Opening the recording…", self.palette.style("dim"))
        return lines


class Shell(Careful):
    """The app without what the views ask of it."""

    TITLE = "Keel"
    CSS = """
    Screen { background: $background; }
    ModalScreen { background: $background 60%; }
    ToastRack { margin-bottom: 2; }
    #room { height: 1fr; }
    """
    COMMANDS: ClassVar[set[Any]] = {KeelCommands}
    BINDINGS: ClassVar[list[Any]] = [Binding(key, f"key('{key}')", show=False, priority=True) for key in KEYS]

    def __init__(self, folder: Path | None, recorder: Popen[bytes] | None = None) -> None:
        super().__init__()
        self.palette: Palette = DARK
        self.state = State()
        self.history = History()
        self.picture: Picture | None = None
        self._folder, self._recorder = folder, recorder
        self._desk: Desk | None = None
        self.editing: Editing | None = None
        self._received = 0.0
        self._told: set[str] = set()
        self.views: dict[str, Any] = {}
        self._room = Container(Opening(), id="room")
        self.head = Head(folder.stem if folder else "")
        self.tape, self.bar, self.keys = Tape(), ViewBar(), KeyLine()
        self.asking = AskLine(self._complaint, self._completions, self._wrong_at)

    def compose(self) -> ComposeResult:
        """Head, tape, names, the views, ask, keys."""
        yield self.head
        yield self.tape
        yield self.bar
        yield self._room
        yield self.asking
        yield self.keys

    def on_mount(self) -> None:
        """Show the first view; begin to read once it is painted."""
        for palette in (DARK, LIGHT):
            self.register_theme(palette.theme())
        self.theme = self.palette.name
        self._arrange()
        if self._folder is None:
            self.push_screen(Shelf(), self._chosen)
        self.call_after_refresh(self._furnish)

    @work(thread=True)
    def _furnish(self) -> None:
        """Load the views behind the first screen, then put them in."""
        from keel.app.views.every import make_views

        self.call_from_thread(self._move_in, make_views)

    def _move_in(self, make_views: Callable[[], dict[str, Any]]) -> None:
        self.views = make_views()
        gc.enable()
        self._room.remove_children()
        self._room.mount_all(self.views.values())
        self._arrange()
        if self._folder is not None and self._desk is None:
            self._open(self._folder)

    def _chosen(self, folder: Path | None) -> None:
        if folder is not None:
            self._folder = folder
            if self.views:
                self._open(folder)
        elif self._desk is None:
            self.exit()

    def _open(self, folder: Path) -> None:
        from keel.app.desk.desk import Desk
        from keel.app.desk.editing import Editing

        if self._desk is not None:
            self._desk.close()
        self.history = History()
        self.head.say_whole()
        self._desk = Desk(folder, self._deliver)
        self.editing = Editing(folder, self._desk, self.history)
        self.views[COMPARE].home = folder
        self._wish()
        self._desk.start()

    def switch(self, folder: Path, state: State) -> None:
        """Open another recording in this one's place."""
        self._folder, self.state, self.picture = folder, state, None
        if state.frame is not None:
            self.views[FRAMES].expect(state.frame)
        self._arrange()
        self._open(folder)

    def on_unmount(self) -> None:
        """Stop reading."""
        if self._desk is not None:
            self._desk.close()

    # From the desk to the views.

    def _deliver(self, news: Picture | KeelError) -> None:
        self.call_later(self._receive, news)

    def _receive(self, news: Picture | KeelError) -> None:
        if isinstance(news, KeelError):
            if isinstance(news, RecordingDamaged):
                self.head.say_damaged()
            self.tell_once(self._why(news))
            return
        with self.telling():
            self._show(news)

    def _show(self, news: Picture) -> None:
        self.picture = news
        trouble = (news.status.trouble,) if news.status is not None and news.status.trouble else ()
        for sentence in (*trouble, *news.snapshot.problems, *news.snapshot.manifest.notes):
            if sentence not in self._told:
                self._told.add(sentence)
                self.tell(sentence, 8, error=sentence not in news.snapshot.manifest.notes)
        self._received = time.monotonic()
        self.head.show(news)
        self.tape.show(news)
        if news.wish.view == self.state.view:
            view = self.views[news.wish.view]
            if hasattr(view, "pick"):
                view.pick = self.state.pick
            view.show(news)
            if self.state.pick is None and getattr(view, "pick", None) is not None:
                self.state = replace(self.state, pick=view.pick)
        self.say_result()

    def _why(self, error: KeelError) -> str:
        if self._recorder is not None and self._recorder.poll() is not None and self._recorder.stderr is not None:
            said = self._recorder.stderr.read().decode("utf-8", "replace").strip()
            return said or str(error)
        return str(error)

    def say_result(self) -> None:
        """Say how many frames there are and where the one in hand stands."""
        picture = self.picture
        if picture is None or self.asking.typing:
            return
        if picture.ask_error:
            self.asking.result.say(f"no frames: the ask cannot be used, {picture.ask_error}", "coral")
            return
        frames = self.views[FRAMES]
        rank = frames.cursor if self.state.view == FRAMES and len(picture.matches) else None
        asked, lens = bool(picture.wish.ask), picture.wish.lens is not None
        following = self.state.view == FRAMES and frames.following and picture.snapshot.live
        total, here = picture.matches.total, len(picture.matches)
        text = result_words(total, here, rank, asked, lens, following, picture.matches.looked)
        self.asking.result.say(" · ".join((text, *picture.hints)), "brass" if picture.hints else "dim")

    def _wish(self) -> None:
        if self._desk is None:
            return
        from keel.app.desk.picture import Wish

        s = self.state
        chart = self.views[HEALTH].chart_cells
        self._desk.wish(
            Wish(s.view, s.lens, s.ask, s.held, self.tape.cells, chart, s.baseline, s.hush, self.views[VALUES].wish())
        )

    def on_resize(self) -> None:
        """The tape has another width."""
        self.call_after_refresh(self._wish)

    def _error_in(self, text: str) -> AskError | None:
        from keel.ask.language import parse

        try:
            parse(text, self.picture.scene if self.picture else None)
        except AskError as error:
            return error
        return None

    def _complaint(self, text: str) -> str | None:
        error = self._error_in(text)
        return str(error) if error is not None else None

    def _wrong_at(self, text: str) -> int | None:
        error = self._error_in(text)
        return error.position if error is not None else None

    def _completions(self, text: str) -> list[str]:
        from keel.ask.completion import complete

        picture = self.picture
        return complete(text, picture.scene if picture else None, tuple(picture.census) if picture else ())

    # Changes of what is shared, and the way back.

    def change(self, words: str, **to: Any) -> None:
        """Change lens, ask, pick, view or frame, so that it can be taken back."""
        old, new = self.state, replace(self.state, **to)
        if new == old:
            return
        only_pick = set(to) <= {"pick", "frame"}
        if not (only_pick and self.history.steps and self.history.steps[-1].words == words):
            self.history.push(words, lambda: self._set(old), lambda: self._set(new))
        self._set(new)

    def _set(self, state: State) -> None:
        goal = state.frame if state.frame != self.state.frame else None
        self.state = state
        if goal is not None and state.view == FRAMES:
            self.views[FRAMES].expect(goal)
            shown = self.picture.wish if self.picture is not None else None
            if shown is not None and (shown.view, shown.ask, shown.lens) == (FRAMES, state.ask, state.lens):
                # No other picture will come: this one has the frame already.
                self.views[FRAMES].go_to(goal)
        self._arrange()
        self._wish()
        view = self.views[state.view]
        if hasattr(view, "pick"):
            view.pick = state.pick
        view.repaint()
        self.say_result()

    def _arrange(self) -> None:
        for name, view in self.views.items():
            view.display = name == self.state.view
        self.bar.show(self.state.view)
        self.asking.show(self.state.ask)
        self.keys.show(self.state.view, self.asking.typing)

    def go(self, view: str) -> None:
        """Open a view."""
        self.change("view", view=view)

    # Keys.

    def check_action(self, action: str, parameters: tuple[object, ...]) -> bool | None:
        """Our keys count when the views are there, no window is open and no ask is being typed."""
        if action == "key":
            return bool(self.views) and len(self.screen_stack) == 1 and not self.asking.typing
        return super().check_action(action, parameters)

    def action_key(self, key: str) -> None:
        """A key was pressed."""
        if self._desk is not None:
            self._desk.give_way()
        for view, (number, _) in VIEWS.items():
            if key == number:
                self.go(view)
                return
        for action in actions_in(self.state.view):
            if key in action.keys.split(","):
                self.perform(action)
                return

    def perform(self, action: Action) -> None:
        """Do something: the view knows how, or the app does."""
        view: Sheet = self.views[self.state.view]
        target = view if hasattr(view, f"do_{action.name}") else self
        with self.telling():
            getattr(target, f"do_{action.name}")()
            self.say_result()

    def do_hold(self) -> None:
        """Hold the picture, or let it go on; not a change to take back."""
        self.state = replace(self.state, held=not self.state.held)
        self._wish()

    def do_ask(self) -> None:
        """Type an ask."""
        self.asking.begin()
        self.keys.show(self.state.view, True)

    def do_back(self) -> None:
        """Take back the last change."""
        words = self.history.back()
        self.tell(f"took back: {words}" if words else "there is nothing to take back", 1.5)

    def do_forward(self) -> None:
        """Make the change again that was taken back."""
        words = self.history.forward()
        self.tell(f"made again: {words}" if words else "there is nothing to make again", 1.5)

    @property
    def folder(self) -> Path | None:
        """The recording that is open."""
        return self._folder

    def _move_lens(self, change: str) -> None:
        picture = self.picture
        if picture is None or not picture.snapshot.frames:
            return
        whole, lens = picture.whole, self.state.lens or picture.whole
        self.change("lens", lens=moved(lens, change, whole))

    def do_lens_earlier(self) -> None:
        """The lens a quarter back."""
        self._move_lens("earlier")

    def do_lens_later(self) -> None:
        """The lens a quarter on."""
        self._move_lens("later")

    def do_lens_in(self) -> None:
        """Half the lens."""
        self._move_lens("in")

    def do_lens_out(self) -> None:
        """Twice the lens."""
        self._move_lens("out")

    def do_lens_all(self) -> None:
        """All of the recording."""
        self.change("lens", lens=None)

    def do_guide(self) -> None:
        """Explain."""
        self.push_screen(Guide())

    def do_colours(self) -> None:
        """Dark or light."""
        self.palette = LIGHT if self.palette is DARK else DARK
        self.theme = self.palette.name
        for sheet in self.screen.query(Sheet):
            sheet.repaint()

    def do_quit(self) -> None:
        """Leave, once what is being saved is saved."""
        self.run_worker(self._leave())

    async def _leave(self) -> None:
        saving = [worker for worker in self.workers if worker.group == "save"]
        if saving:
            await self.workers.wait_for_complete(saving)
        self.exit()
