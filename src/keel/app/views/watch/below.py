"""What stands below the rows of Watch: the ribbon of the identifier in hand."""

from __future__ import annotations

from keel.app.frame.helm import Here
from keel.app.paint.canvas import Line
from keel.app.paint.ribbon import bytes_that_fit, ribbon, value_lines
from keel.app.views.watch.choices import WatchChoices
from keel.app.views.watch.row import FRESH_NS
from keel.app.views.watch.wants import Watched
from keel.measure.cycles import heard_in
from keel.media.every import key_words


def ribbon_below(here: Here, watched: Watched, key: int, choices: WatchChoices) -> list[Line]:
    """A title, the newest payload as bits, its signals."""
    picture, palette, width, style = here.picture, here.palette, here.width, here.style
    tally = picture.census[key]
    message = picture.messages.get(key)
    title = here.line()
    title.put(0, "─" * width, style("line"))
    at = title.put(2, f" {picture.called(key, tally.payload)[0]} ", style("sea", bold=True))
    at = title.put(at, f"{key_words(key)} ", style("strong", bold=True))
    heard = heard_in(tally, picture.lens)
    if heard.start != picture.lens.start:
        at = title.put(at, f"new from {(heard.start - picture.zero) / 1e9:.1f} s ", style("brass"))
    fits = bytes_that_fit(width)
    first = min(choices.first_byte, max(len(tally.payload) - fits, 0))
    if len(tally.payload) > fits:
        title.put(at, f"bytes {first}–{first + fits - 1} of {tally.size}, ← → ", style("dim"))
    lines = [here.line(), title]
    if not tally.size:
        said = here.line()
        said.put(1, "no payload", style("dim"))
        return [*lines, said, here.line(), here.line(), here.line(), here.line()]
    lines += ribbon(palette, width, tally.payload, message, _fresh(here, watched, key), first)
    if message is not None and message.signals:
        lines += value_lines(palette, width, tally.payload, message, 2)
    else:
        hint = here.line()
        text = "no fields are known: flag marks with m while you operate the device, then 4 Hunt"
        hint.put(1, text, style("dim"))
        lines.append(hint)
    return lines


def _fresh(here: Here, watched: Watched, key: int) -> bytes:
    """For each byte the bits that light up: those that react, or all of a byte that changed just now."""
    tally = here.picture.census[key]
    if watched.hush is not None:
        flips = watched.hush.reacting.get(key)
        if flips is None:
            return b""
        return bytes(sum(1 << b for b in range(8) if flips[8 * n + b]) for n in range(len(flips) // 8))
    age = here.picture.lens.end - FRESH_NS[1]
    return bytes(0xFF if int(at) > age else 0 for at in tally.changed_at[: len(tally.payload)])
