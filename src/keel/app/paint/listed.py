"""A view that is a list: its keys move a cursor. What moving means the view says."""

from __future__ import annotations

from keel.app.paint.canvas import Sheet

FAR = 1 << 30


class Listed(Sheet):
    """Keys to moves."""

    @property
    def page_rows(self) -> int:
        """How many rows a page is."""
        return 10

    def move(self, by: int) -> None:
        """Take another row in hand, so many further down; at the ends it stays."""
        raise NotImplementedError

    def do_up(self) -> None:
        """One row up."""
        self.move(-1)

    def do_down(self) -> None:
        """One row down."""
        self.move(1)

    def do_page_up(self) -> None:
        """One page up."""
        self.move(-self.page_rows)

    def do_page_down(self) -> None:
        """One page down."""
        self.move(self.page_rows)

    def do_first(self) -> None:
        """To the first row."""
        self.move(-FAR)

    def do_last(self) -> None:
        """To the last row."""
        self.move(FAR)
