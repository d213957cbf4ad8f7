"""Says how far something is that takes its time, and lets the person give it up."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from textual.app import ComposeResult
from textual.containers import Vertical
from textual.widgets import ProgressBar, Static

from keel.app.dialogs.window import Window
from keel.app.frame.helm import Helm
from keel.errors import KeelError
from keel.model.safe_text import plain


class GivenUp(KeelError):
    """A person gave it up."""


class Working(Window[bool]):
    """The window."""

    DEFAULT_CSS = "Working ProgressBar { margin: 1 0; }"

    def __init__(self, title: str, give_up: Callable[[], object]) -> None:
        super().__init__()
        self._title, self._give_up = title, give_up

    def compose(self) -> ComposeResult:
        """What is done, and how far."""
        with Vertical():
            yield Static(plain(self._title), markup=False)
            yield ProgressBar(show_eta=False)
            yield Static("esc gives up", classes="dim", markup=False)

    def at(self, done: int, total: int, stopped: bool) -> None:
        """Say how far it is; on any thread.

        Raises:
            GivenUp: the person does not want it any more.
        """
        if stopped:
            raise GivenUp("given up")
        self.app.call_from_thread(self._show, done, total)

    def _show(self, done: int, total: int) -> None:
        for bar in self.query(ProgressBar):
            bar.update(total=max(total, 1), progress=done)

    def action_leave(self) -> None:
        """Give it up; the window closes when that is done."""
        self._give_up()


def working(
    helm: Helm,
    title: str,
    where: Callable[[], Path],
    make: Callable[[Path, Callable[[int, int], None]], None],
    done: Callable[[Path], None],
    left: Callable[[], None],
) -> None:
    """Make a recording that takes its time: how far it is is shown, and it can be given up.

    Args:
        helm: The app's.
        title: What is done.
        where: The recording to be; if it is there already, that is it.
        make: Makes it, and tells how much of how much is done.
        done: Takes it.
        left: Called if nothing came of it.
    """
    window = Working(title, helm.give_up)

    def work(stopped: Callable[[], bool]) -> Path:
        folder = where()
        if not folder.exists():
            folder.parent.mkdir(parents=True, exist_ok=True)
            make(folder, lambda at, total: window.at(at, total, stopped()))
        return folder

    def finished(folder: Path) -> None:
        window.dismiss(True)
        done(folder)

    def failed() -> None:
        window.dismiss(False)
        left()

    helm.windows.open(window, lambda _: None)
    helm.behind(work, finished, failed)
