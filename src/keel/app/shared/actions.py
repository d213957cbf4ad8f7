"""Every action once: its key, its words, where it applies. Key line, command palette and guide are made from this."""

from __future__ import annotations

from dataclasses import dataclass

from keel.app.shared.state import BENCH, COMPARE, FRAMES, HEALTH, HUNT, VALUES, VIEWS, WATCH

EVERYWHERE: tuple[str, ...] = tuple(VIEWS)


@dataclass(frozen=True)
class Action:
    """Something a person can do.

    Attributes:
        name: The method ``action_name`` of the app or of the view it applies to.
        keys: The keys that do it, as Textual names them.
        shown: The key as people read it.
        word: On the key line; empty if it does not stand there.
        help: In the palette and the guide.
        views: Where it applies.
    """

    name: str
    keys: str
    shown: str
    word: str
    help: str
    views: tuple[str, ...] = EVERYWHERE


_LISTS = (WATCH, FRAMES, HEALTH, HUNT, VALUES, COMPARE)

ACTIONS: tuple[Action, ...] = (
    Action("hold", "space", "space", "hold", "Hold the picture still, or let it go on", (WATCH, HEALTH, HUNT, VALUES)),
    Action("follow", "space", "space", "follow", "Follow the newest frame, or stop following", (FRAMES,)),
    Action("up", "up,k", "↑", "", "One row up", (*_LISTS, BENCH)),
    Action("down", "down,j", "↓", "", "One row down", (*_LISTS, BENCH)),
    Action("page_up", "pageup", "PgUp", "", "One page up", _LISTS),
    Action("page_down", "pagedown", "PgDn", "", "One page down", _LISTS),
    Action("first", "home", "Home", "", "To the first row", _LISTS),
    Action("last", "end", "End", "", "To the last row", _LISTS),
    Action("open_row", "enter", "enter", "frames", "Only this, as frames", (WATCH, HEALTH)),
    Action("keep", "enter", "enter", "keep", "Keep the candidate as a named signal", (HUNT,)),
    Action("baseline", "b", "b", "baseline", "Count anew from now, or from the beginning again", (WATCH, HEALTH)),
    Action("hush", "u", "u", "hush", "Learn what moves by itself, dim it, show it again", (WATCH,)),
    Action("learn_on", "U", "U", "", "Learn on what moves by itself", (WATCH,)),
    Action("group", "g", "g", "group", "Group by bus, by name, by identifiers; or not", (WATCH,)),
    Action("draw_group", "G", "G", "", "Begin a group of identifiers at this row; end it at another", (WATCH,)),
    Action("columns", "c", "c", "", "Choose the columns", (WATCH,)),
    Action("sort", "s", "s", "sort", "Sort by the next column", (WATCH,)),
    Action("reverse", "S", "S", "", "Turn the order round", (WATCH,)),
    Action("left", "left", "←", "", "What lies to the left: bytes, columns, values", (WATCH, FRAMES, VALUES, BENCH)),
    Action("right", "right", "→", "", "What lies to the right: bytes, columns, values", (WATCH, FRAMES, VALUES, BENCH)),
    Action("change", "enter", "← →", "work it", "Work the control", (BENCH,)),
    Action("next_match", "n", "n N", "match", "The next frame that meets the ask", (FRAMES,)),
    Action("previous_match", "N", "N", "", "The frame before that meets the ask", (FRAMES,)),
    Action("next_fault", "f", "f F", "fault", "The next faulty frame", (FRAMES,)),
    Action("previous_fault", "F", "F", "", "The faulty frame before", (FRAMES,)),
    Action("times", "t", "t", "times", "Time as clock, elapsed, or from zero", (FRAMES,)),
    Action("zero", "z", "z", "zero", "Set zero at the frame in hand, or back to the beginning", (FRAMES,)),
    Action("goto", "colon", ":", "go to", "Go to a frame by its number, or to a time", (FRAMES,)),
    Action("comment", "c", "c", "note", "Write a note on the frame in hand", (FRAMES,)),
    Action("payload_form", "x", "x", "hex bits", "Payload as hex, bits, decimal or text", (WATCH, FRAMES)),
    Action("panel", "tab", "tab", "panel", "The other list", (HEALTH,)),
    Action("first_of", "f", "f", "first", "Jump to the first of this fault", (HEALTH,)),
    Action("last_of", "l", "l", "last", "Jump to the last of this fault", (HEALTH,)),
    Action("nominal", "N", "N", "", "Name the nominal cycle time of this identifier", (HEALTH,)),
    Action("add_check", "a", "a", "check", "Write a check of your own", (HEALTH,)),
    Action("drop_check", "delete", "Del", "", "Remove the check in hand", (HEALTH,)),
    Action("gap_of", "g", "g", "gap", "Jump to the longest gap of this identifier", (HEALTH,)),
    Action("reading", "r", "r", "reading", "Type what a display shows now, or at a time", (HUNT,)),
    Action("series", "s", "s", "series", "Use a log of another instrument", (HUNT,)),
    Action("value", "v", "v", "value", "Look for a value or text that is sent", (HUNT,)),
    Action("against", "g", "g", "good/bad", "What is wrong in a bad recording, or in the lens?", (HUNT,)),
    Action("structure", "u", "u", "structure", "What are the payloads made of?", (HUNT,)),
    Action("rule_out", "x", "x", "rule out", "Rule out this candidate and its family", (HUNT,)),
    Action("search", "R", "R", "", "Search again", (HUNT,)),
    Action("pairing", "p", "p", "pairs", "Marks as pairs (before, after), as moments, or not used", (HUNT,)),
    Action("tries", "t", "t", "", "The marks of another try", (HUNT,)),
    Action("new_try", "n", "n", "new try", "Begin a new try: marks from now on are of something else", (HUNT, BENCH)),
    Action("draft", "d", "d", "draft", "Draft a dictionary of all that the traffic shows", (HUNT,)),
    Action("give_up", "escape", "esc", "", "Give up the search", (HUNT,)),
    Action("plot", "enter", "enter", "plot", "Draw this signal too, or no longer", (VALUES,)),
    Action("cursor", "c", "c", "cursors", "A cursor on the plots, then a second, then none", (VALUES,)),
    Action("other_cursor", "tab", "tab", "", "The other cursor moves with ← and →", (VALUES,)),
    Action("stack", "v", "v", "over", "Plots over each other, or one above the other", (VALUES,)),
    Action("no_plots", "escape", "esc", "", "Draw only the signal in hand", (VALUES,)),
    Action("expect", "x", "x", "expect", "Type what the device displays, and see the difference", (VALUES,)),
    Action("next_page", "g", "g", "pages", "By message, or the next of your own pages", (VALUES,)),
    Action("to_page", "P", "P", "to page", "Put this signal on a page of your own, or take it off", (VALUES,)),
    Action("counters", "h", "h", "", "Show counters, checksums and selectors too", (VALUES,)),
    Action("dictionaries", "D", "D", "", "The dictionaries that are used: add, drop, order"),
    Action("jump_a", "enter", "enter", "to A", "To the frames of side A", (COMPARE,)),
    Action("jump_b", "b", "b", "to B", "To the frames of side B", (COMPARE,)),
    Action("with_other", "w", "w", "with", "Compare with another recording", (COMPARE,)),
    Action("spans", "s", "s", "spans", "Take the lens as side A, then as side B", (COMPARE,)),
    Action("match", "u", "u", "buses", "Say which bus of one is which of the other", (COMPARE,)),
    Action("align", "t", "t", "align", "Align by start, by mark, or by what happens in the traffic", (COMPARE,)),
    Action("give_up", "escape", "esc", "", "Give up comparing", (COMPARE,)),
    Action("mark", "m", "m", "mark", "Flag a mark: now, or at the frame in hand"),
    Action("ask", "slash", "/", "ask", "Type an ask"),
    Action("forward", "greater_than_sign", ">", "", "Make again the change that was taken back"),
    Action("narrow", "o", "o", "only", "Only this, or not this: row or frame in hand", (WATCH, FRAMES, HEALTH)),
    Action("named", "A", "A", "", "Named asks: use one, or keep the present one under a name"),
    Action("back", "backspace", "⌫", "back", "Take back the last change of lens, ask, pick or marks"),
    Action(
        "export",
        "e",
        "e",
        "export",
        "Save a drawing, frames or values (CSV, Parquet), a report (HTML, JSON)",
    ),
    Action("lens_earlier", "left_square_bracket", "[ ]", "lens", "Move the lens to earlier"),
    Action("lens_later", "right_square_bracket", "]", "", "Move the lens to later"),
    Action("lens_in", "plus,equals_sign", "+ -", "zoom", "Halve the lens"),
    Action("lens_out", "minus", "-", "", "Double the lens"),
    Action("lens_all", "0", "0", "all", "Look at all of the recording"),
    Action("guide", "question_mark", "?", "guide", "Explain views, keys and the ask"),
    Action("colours", "f2", "F2", "", "Dark or light colours"),
    Action("quit", "q", "q", "quit", "Leave"),
)


def actions_in(view: str) -> list[Action]:
    """The actions that apply in a view, those of the view first."""
    here = [a for a in ACTIONS if view in a.views]
    return sorted(here, key=lambda a: len(a.views) == len(EVERYWHERE))
