"""The command palette: every action by its help text, those of the open view first, their keys beside them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol, cast

from textual.command import DiscoveryHit, Hit, Hits, Provider

from keel.app.frame.action import Action


class Commanded(Protocol):
    """The app, as the palette needs it."""

    @property
    def groups(self) -> list[tuple[str, tuple[Action, ...]]]:
        """Actions under the name of what they belong to, the open view's first."""

    @property
    def doors(self) -> list[tuple[str, str, str]]:
        """Name, key and title of each view."""

    def perform(self, action: Action) -> None:
        """Do something."""

    def go(self, view: str) -> None:
        """Open a view."""


class KeelCommands(Provider):
    """What can be done in the view that is open."""

    def _entries(self) -> list[tuple[str, Callable[[], None]]]:
        app = cast(Commanded, self.app)
        entries: list[tuple[str, Callable[[], None]]] = []
        for group, actions in app.groups:
            for action in actions:
                text = f"{action.shown:6} {group:8} {action.help}"
                entries.append((text, lambda a=action: app.perform(a)))  # type: ignore[misc]
        for name, key, title in app.doors:
            entries.append((f"{key:6} {'views':8} Go to {title}", lambda n=name: app.go(n)))  # type: ignore[misc]
        return entries

    async def discover(self) -> Hits:
        """All of them."""
        for text, run in self._entries():
            yield DiscoveryHit(text.replace("[", "\\["), run, text=text)

    async def search(self, query: str) -> Hits:
        """Those that fit what is typed."""
        matcher = self.matcher(query)
        for text, run in self._entries():
            score = matcher.match(text)
            if score > 0:
                yield Hit(score, matcher.highlight(text), run, text=text)
