"""What people do to what is looked at, in any view: narrow it, name it, count from here, go there, write it down."""

from __future__ import annotations

import re
import time
from dataclasses import replace
from typing import TYPE_CHECKING

from textual import work
from textual.worker import get_current_worker

from keel.app.dialogs.dialogs import AskName, Choice, Choose
from keel.app.shared import asks
from keel.app.shared.state import FRAMES, WATCH
from keel.app.shell import Shell
from keel.errors import AskError, KeelError
from keel.model.span import Span
from keel.model.units import NS_PER_S

if TYPE_CHECKING:
    from keel.app.desk.editing import Editing
    from keel.app.desk.picture import Picture


class Steering(Shell):
    """The actions that change what is shared."""

    def do_mark(self) -> None:
        """Flag a mark: now, or at the frame in hand."""
        picture, editing = self.picture, self.editing
        if picture is None or editing is None or not picture.snapshot.frames:
            self.tell("there is no frame to mark yet", 2)
            return
        at = self.moment()
        number = editing.add_mark(at)
        self.tell(f"⚑ mark {number} at {(at - picture.whole.start) / 1e9:.1f} s", 1.5)

    def do_new_try(self) -> None:
        """Ask what is operated next: marks belong to it from then on."""
        editing = self.editing
        if editing is None:
            return

        def named(name: str | None) -> None:
            if name:
                editing.begin_try(name)
                self.tell(f"marks are of “{name}” from now on; Hunt uses the last try, t another", 4)

        hint = "its marks are not mixed with those of earlier tries   enter begin   esc leave"
        self.push_screen(AskName("What do you operate next?", hint, ""), named)

    def do_draft(self) -> None:
        """Draft a dictionary, off the interface thread."""
        if self.picture is not None and self.editing is not None:
            self.tell("drafting a dictionary of all that the traffic shows…", 2)
            self.draft(self.picture, self.editing)

    @work(thread=True, exclusive=True, group="hunt")
    def draft(self, picture: Picture, editing: Editing) -> None:
        """Read the traffic, draft, keep."""
        from keel.app.desk.frame_pages import all_matches
        from keel.hunt.columns import gather
        from keel.hunt.draft import draft
        from keel.hunt.traffic import Traffic

        worker = get_current_worker()

        def stopped() -> bool:
            return worker.is_cancelled

        try:
            traffic = Traffic.of(gather(all_matches(picture)), stopped)
            drafted = draft(traffic, picture.snapshot.manifest.bus_names, stopped)
        except KeelError as error:
            self.call_from_thread(self.tell, str(error), 8, True)
            return
        if not worker.is_cancelled:
            editing.keep_draft(drafted)
            signals = sum(len(m.signals) for m in drafted.messages)
            said = f"drafted {len(drafted.messages)} messages, {signals} fields; 5 shows them, ⌫ takes them back"
            self.call_from_thread(self.tell, said, 5)

    def moment(self) -> int:
        """The moment meant, in ns: of the frame in hand, or now; in what is over, the end of the lens."""
        picture, frames = self.picture, self.views[FRAMES]
        assert picture is not None
        if self.state.view == FRAMES and not frames.following and frames.number_in_hand is not None:
            number = frames.number_in_hand
            return int(picture.snapshot.rows(number, number + 1).time[0])
        if picture.snapshot.live and not self.state.held:
            return picture.snapshot.span.end + int((time.monotonic() - self._received) * 1e9)
        return picture.lens.end - 1

    # Narrowing.

    def do_narrow(self) -> None:
        """Only this, not this: the terms that the view's row says of itself, to choose from."""
        from keel.ask.narrowing import only, without

        view = self.views[self.state.view]
        terms: list[str] = view.terms() if hasattr(view, "terms") else []
        if not terms:
            self.tell("there is nothing in hand to narrow by", 2)
            return
        ask = self.state.ask
        choices = [Choice(only(ask, term), f"only  {term}") for term in terms]
        choices += [Choice(without(ask, term), f"not   {term}") for term in terms]

        def chosen(answer: str | None) -> None:
            if answer is not None:
                self.change("ask", ask=answer)

        self.push_screen(Choose("only this, or not this", choices), chosen)

    def do_named(self) -> None:
        """Named asks of the recording and of the user."""
        picture, editing = self.picture, self.editing
        if picture is None or editing is None:
            return
        kept = {a.name: a.text for a in picture.snapshot.manifest.asks}
        mine = asks.user_asks()
        choices = [Choice(text, f"{name:20}  {text}") for name, text in kept.items()]
        choices += [Choice(text, f"{name:20}  {text}   · yours") for name, text in mine.items() if name not in kept]
        ask = self.state.ask
        if ask:
            choices.insert(0, Choice("\0keep", f"keep “{ask}” under a name"))

        def named(name: str | None) -> None:
            if name:
                asks.keep_user_ask(name, ask)
                editing.edit(f"named ask {name}", lambda manifest: asks.keep_in(manifest, name, ask))
                self.tell(f"kept {name}")

        def chosen(answer: str | None) -> None:
            if answer == "\0keep":
                self.push_screen(AskName("A name for this ask", f"{ask}   enter keep   esc leave", ""), named)
            elif answer is not None:
                self.change("ask", ask=answer)

        if not choices:
            self.tell("no ask has a name yet: type one with / first", 3)
            return
        self.push_screen(Choose("named asks", choices), chosen)

    # Baseline and hush.

    def _now(self) -> int | None:
        """The moment meant by "now": the newest frame of a live recording, else the end of the lens."""
        picture = self.picture
        if picture is None or not picture.snapshot.frames:
            return None
        return picture.lens.end if picture.wish.lens is not None else picture.snapshot.span.end

    def do_baseline(self) -> None:
        """Count anew from now; or, if that is on, from the beginning again."""
        picture = self.picture
        if self.state.baseline is not None:
            self.change("baseline", baseline=None)
            return
        now = self._now()
        if picture is None or now is None:
            return
        if not picture.snapshot.live:
            # Nothing comes any more: what is looked at later is compared with what was before the lens.
            now = picture.lens.start if picture.wish.lens is not None else picture.whole.start
        self.change("baseline", baseline=now)
        self.tell(f"baseline at {(now - picture.whole.start) / NS_PER_S:.1f} s: counts begin there, b ends it", 3)

    def do_hush(self) -> None:
        """Begin to learn, end learning, hush no more: in turn."""
        picture, now, state = self.picture, self._now(), self.state
        if picture is None or now is None:
            return
        if state.hush is not None:
            self.views[WATCH].learning = None
            self.change("hush", hush=None, learning=None)
            self.tell("nothing is hushed any more", 2)
        elif not picture.snapshot.live:
            self.change("hush", hush=picture.lens)
            self.tell("hushed: what moved in the lens. Move the lens to see what else moves; u ends it", 5)
        elif state.learning is None:
            self._learn_from(now)
        else:
            self.views[WATCH].learning = None
            self.change("hush", hush=Span(state.learning, now), learning=None)
            self.tell("hushed: only what moves otherwise lights up; u ends it, U learns on", 4)

    def do_learn_on(self) -> None:
        """Go on learning what moves by itself, from where that began."""
        picture, state = self.picture, self.state
        if picture is None or state.hush is None:
            self.tell("u begins to learn what moves by itself", 3)
        elif not picture.snapshot.live:
            self.tell("nothing comes any more that could be learnt from: u, with a longer lens", 3)
        else:
            start = state.hush.start
            self.change("hush", hush=None)
            self._learn_from(start)

    def _learn_from(self, start: int) -> None:
        self.state = replace(self.state, learning=start)
        self.views[WATCH].learning = start
        self.views[WATCH].repaint()
        self.tell("learning what moves by itself: touch nothing, then u again; the longer, the surer", 5)

    # Going somewhere, writing something down.

    def do_goto(self) -> None:
        """Ask where to go."""
        hint = "a number as 12345, or a time as 12.5s, 1min, 09:48:12.5   enter go   esc stay"
        self.push_screen(AskName("Go to a frame or a time", hint, ""), self._go_to)

    def _go_to(self, answer: str | None) -> None:
        picture = self.picture
        if not answer or picture is None or not len(picture.matches):
            return
        try:
            number = goal_of(answer, picture.whole)
        except ValueError:
            self.tell(f"“{answer}” is neither a frame's number nor a time as 12.5s or 09:48:12", 4, error=True)
            return
        what, which = number
        last = picture.snapshot.frames - 1
        goal = min(max(which - 1, 0), last) if what == "frame" else picture.matches.frame_at(which)
        self.views[FRAMES].following = False
        self.change("go to", view=FRAMES, frame=goal)

    def do_zero(self) -> None:
        """Zero at the frame in hand, or the beginning again."""
        picture, number = self.picture, self.views[FRAMES].number_in_hand
        if picture is None or number is None:
            return
        time = int(picture.snapshot.rows(number, number + 1).time[0])
        self.change("zero", zero=None if self.state.zero == time else time)
        self.views[FRAMES].zero = self.state.zero
        self.views[FRAMES].repaint()

    def do_comment(self) -> None:
        """Write a note on the frame in hand; an empty one removes it."""
        picture, editing, number = self.picture, self.editing, self.views[FRAMES].number_in_hand
        if picture is None or editing is None or number is None:
            return
        old = next((c.text for c in picture.snapshot.manifest.comments if c.number == number), "")

        def written(text: str | None) -> None:
            if text is not None:
                editing.edit(f"note on frame {number + 1}", lambda manifest: asks.comment_in(manifest, number, text))

        title = f"A note on frame {number + 1}"
        self.push_screen(AskName(title, "enter keeps it; empty removes it   esc leave", old, empty=True), written)

    # Health.

    def do_nominal(self) -> None:
        """Name the nominal cycle time of the pick."""
        picture, editing, key = self.picture, self.editing, self.state.pick
        if picture is None or editing is None or key is None:
            return
        known = picture.snapshot.manifest.nominal.get(key)

        def named(text: str | None) -> None:
            if text is None:
                return
            found = re.fullmatch(r"\s*(\d+(?:[.,]\d+)?)\s*(?:ms)?\s*", text)
            if text and found is None:
                self.tell(f"“{text}” is no time in ms", 3, error=True)
                return
            ns = round(float(found[1].replace(",", ".")) * 1e6) if found else 0
            editing.edit("nominal cycle time", lambda manifest: asks.nominal_in(manifest, key, ns))

        title = f"Nominal cycle time of {picture.name(key)} in ms"
        proposal = f"{known / 1e6:g}" if known else ""
        self.push_screen(AskName(title, "enter keeps it; empty infers it   esc leave", proposal, empty=True), named)

    def do_add_check(self) -> None:
        """Write a check."""
        from keel.measure.checks import FORMS, parse_check

        editing = self.editing
        if editing is None:
            return

        def written(text: str | None) -> None:
            if not text:
                return
            try:
                parse_check(text)
            except AskError as error:
                self.tell(str(error), 8, error=True)
                return
            editing.edit("check", lambda manifest: asks.check_in(manifest, text))

        self.push_screen(AskName("A check of your own", "   ".join(FORMS), ""), written)

    def do_drop_check(self) -> None:
        """Remove the check in hand."""
        text = self.views["health"].check_in_hand
        if text is None or self.editing is None:
            self.tell("tab to the checks first", 2)
            return
        self.editing.edit("check", lambda manifest: asks.drop_check(manifest, text))

    def do_columns(self) -> None:
        """Choose the columns of Watch."""
        view = self.views[WATCH]
        choices = [Choice(name, f"{'●' if shown else '○'} {title}") for name, title, shown in view.column_choices()]

        def chosen(answer: str | None) -> None:
            if answer is not None:
                view.toggle_column(answer)
                self.do_columns()

        self.push_screen(Choose("columns of Watch; enter shows or hides one", choices), chosen)


def goal_of(text: str, whole: Span) -> tuple[str, int]:
    """What a person means by a place: ``("frame", number)`` or ``("time", ns)``.

    Raises:
        ValueError: it is neither.
    """
    from keel.ask.times import duration_ns

    text = text.strip().lstrip("#").replace("\u202f", "").replace(" ", "")
    if text.isdigit():
        return "frame", int(text)
    clock = re.fullmatch(r"(\d{1,2}):(\d\d)(?::(\d\d(?:\.\d+)?))?", text)
    if clock:
        seconds = int(clock[1]) * 3600 + int(clock[2]) * 60 + float(clock[3] or 0)
        day = whole.start // (86_400 * NS_PER_S) * 86_400 * NS_PER_S
        time = day + round(seconds * NS_PER_S)
        # A recording that runs past midnight means the day after.
        return "time", time if time >= whole.start else time + 86_400 * NS_PER_S
    return "time", whole.start + duration_ns(text)
