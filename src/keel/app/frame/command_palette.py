"""The command palette: every action by its help text."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

from textual.command import DiscoveryHit, Hit, Hits, Provider

from keel.app.shared.actions import actions_in
from keel.app.shared.state import VIEWS

if TYPE_CHECKING:
    from keel.app.shell import Shell


class KeelCommands(Provider):
    """What can be done in the view that is open."""

    def _entries(self) -> list[tuple[str, str, object]]:
        app = cast("Shell", self.app)
        entries: list[tuple[str, str, object]] = []
        for action in actions_in(app.state.view):
            entries.append((action.help, action.shown, lambda a=action: app.perform(a)))
        for view, (key, title) in VIEWS.items():
            entries.append((f"Go to {title}", key, lambda v=view: app.go(v)))
        return entries

    async def discover(self) -> Hits:
        """All of them."""
        for text, key, run in self._entries():
            yield DiscoveryHit(text, run, help=f"key {key}".replace("[", "\\["))  # type: ignore[arg-type]

    async def search(self, query: str) -> Hits:
        """Those that fit what is typed."""
        matcher = self.matcher(query)
        for text, key, run in self._entries():
            score = matcher.match(text)
            if score > 0:
                yield Hit(score, matcher.highlight(text), run, help=f"key {key}".replace("[", "\\["))  # type: ignore[arg-type]
