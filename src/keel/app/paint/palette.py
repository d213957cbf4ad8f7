"""The colours, dark and light. A style is asked for by role, never by number."""

from __future__ import annotations

from dataclasses import dataclass, field

from rich.style import Style
from textual.theme import Theme

BUS_ROLES = ("sea", "slate", "plum", "brass", "moss")


@dataclass(frozen=True)
class Palette:
    """A set of colours by role. Colour never carries meaning alone."""

    name: str
    colours: dict[str, str]
    _styles: dict[tuple[str, str, bool], Style] = field(default_factory=dict, compare=False, repr=False)

    def style(self, role: str = "text", on: str = "ink", bold: bool = False) -> Style:
        """The style for text of a role on a ground."""
        key = (role, on, bold)
        if key not in self._styles:
            self._styles[key] = Style(color=self.colours[role], bgcolor=self.colours[on], bold=bold)
        return self._styles[key]

    def bus(self, index: int) -> str:
        """The role of a bus's colour."""
        return BUS_ROLES[index % len(BUS_ROLES)]

    def theme(self) -> Theme:
        """The same colours for the widgets that Textual brings."""
        c = self.colours
        return Theme(
            name=self.name,
            primary=c["sea"],
            secondary=c["slate"],
            accent=c["brass"],
            warning=c["brass"],
            error=c["coral"],
            success=c["sea"],
            foreground=c["text"],
            background=c["ink"],
            surface=c["panel"],
            panel=c["panel"],
            dark=self is DARK,
        )


DARK = Palette(
    "keel-dark",
    {
        "ink": "#10151b",
        "panel": "#161d25",
        "raised": "#223038",
        "line": "#2b3743",
        "dim": "#6b7a88",
        "faint": "#46535f",
        "text": "#d3dbe2",
        "strong": "#ffffff",
        "sea": "#56b6a4",
        "slate": "#7fa3d1",
        "plum": "#b58fc9",
        "brass": "#e0ad5c",
        "moss": "#9db862",
        "ember": "#a3835a",
        "coral": "#f0716a",
    },
)
LIGHT = Palette(
    "keel-light",
    {
        "ink": "#f6f4ef",
        "panel": "#eae7df",
        "raised": "#d8e2e0",
        "line": "#cfcabd",
        "dim": "#6e7880",
        "faint": "#a8adad",
        "text": "#26313b",
        "strong": "#000000",
        "sea": "#1f7d6d",
        "slate": "#3d689f",
        "plum": "#7c4f93",
        "brass": "#9a6411",
        "moss": "#5f7420",
        "ember": "#8a7350",
        "coral": "#c23a32",
    },
)
