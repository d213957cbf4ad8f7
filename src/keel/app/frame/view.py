"""What a view is: a name, a question it answers, actions, what it wants of the desk, and how it is painted.

A view keeps nothing: everything that is looked at is in the state, everything that is shown in the picture.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from keel.app.frame.action import Action
from keel.app.frame.helm import Helm, Here, Offer

if TYPE_CHECKING:
    from keel.app.desk.making import Want
    from keel.app.paint.canvas import Line
    from keel.app.shared.state import State
    from keel.store.manifest import Manifest


@dataclass(frozen=True)
class Door:
    """A view as it is named before it is loaded.

    Attributes:
        name: What the state calls it.
        key: Opens it.
        title: In the row of views.
        question: What it answers.
        load: Loads it.
    """

    name: str
    key: str
    title: str
    question: str
    load: Callable[[], View]


class View(ABC):
    """A view."""

    actions: tuple[Action, ...] = ()
    counts = True
    """Whether who sends what is shown has to be counted."""

    def acting(self, state: State) -> tuple[Action, ...]:
        """The actions that do something now; all of them, unless the view is in the middle of something."""
        return self.actions

    @abstractmethod
    def paint(self, here: Here) -> list[Line]:
        """The lines to show; fewer than there is room for are filled up."""

    def wants(self, here: Here) -> Want | None:
        """Its part of the picture."""
        return None

    def at_first(self) -> Want | None:
        """Its part of the first picture, before anything is known."""
        return None

    def pick(self, here: Here) -> int | None:
        """The identifier in hand."""
        return here.state.pick if here.state.pick in here.picture.census else None

    def terms(self, here: Here) -> list[str]:
        """What is in hand, as terms of an ask."""
        return []

    def moment(self, here: Here) -> int | None:
        """The moment in hand, in ns; None if the view has none of its own."""
        return None

    def standing(self, here: Here) -> tuple[str, ...]:
        """What the result line says besides: where the row in hand stands."""
        return ()

    def with_frame(self, manifest: Manifest, state: State, bus: int, form: int) -> State:
        """With whatever shows frames of a bus and a form of identifier in sight, if it was not."""
        return state

    def offers(self, here: Here) -> list[Offer]:
        """What can be exported of it, the likeliest first."""
        return []

    def to_moment(self, helm: Helm, time: int) -> bool:
        """A moment was clicked on the tape, in ns; returns whether the view went there."""
        return False

    def click(self, helm: Helm, x: int, y: int, again: bool) -> None:
        """A cell was clicked; ``again``: for the second time."""
        return None

    def wheel(self, helm: Helm, by: int) -> None:
        """The wheel was turned, down if ``by`` is above 0."""
        return None
