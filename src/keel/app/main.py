"""The app: what the views, the tape and the bars ask of it, and what it does then."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from textual import work
from textual.worker import get_current_worker

from keel.app.dialogs import dialogs
from keel.app.dialogs.evidence import ask_evidence, choose_buses, choose_recording
from keel.app.frame.bars import AskLine, KeyLine, ViewBar
from keel.app.frame.tape import Tape
from keel.app.paint import words
from keel.app.shared import asks
from keel.app.shared.asks import remember
from keel.app.shared.state import COMPARE, FRAMES, HUNT, VALUES, State
from keel.app.steering import Steering
from keel.errors import KeelError
from keel.model.span import Span

if TYPE_CHECKING:
    from keel.app.desk.picture import Picture
    from keel.app.views.bench.view import Bench
    from keel.app.views.compare.view import CompareView, Task
    from keel.app.views.frames.view import Frames
    from keel.app.views.health.view import HealthView
    from keel.app.views.hunt.search import Sought
    from keel.app.views.hunt.view import Hunt
    from keel.app.views.values.view import Values
    from keel.app.views.watch.view import Watch


class KeelApp(Steering):
    """Keel."""

    def on_tape_chosen(self, message: Tape.Chosen) -> None:
        """A lens was dragged; a click alone moves the lens there, or the frames."""
        picture = self.picture
        if picture is None:
            return
        if message.span.end > message.span.start:
            self.change("lens", lens=message.span)
        elif self.state.view == FRAMES:
            number = picture.matches.frame_at(message.span.start)
            if number is not None:
                self.views[FRAMES].go_to(number)
        elif self.state.lens is not None:
            half = (self.state.lens.end - self.state.lens.start) // 2
            middle = message.span.start
            self.change("lens", lens=Span(middle - half, middle + half).clipped(picture.whole))

    def on_view_bar_chosen(self, message: ViewBar.Chosen) -> None:
        """A view's name was clicked."""
        self.go(message.view)

    def on_key_line_pressed(self, message: KeyLine.Pressed) -> None:
        """A key's words were clicked."""
        self.perform(message.action)

    def on_ask_line_asked(self, message: AskLine.Asked) -> None:
        """Take the ask."""
        remember(message.text)
        self.change("ask", ask=message.text)

    def on_ask_line_left(self, message: AskLine.Left) -> None:
        """The views have the keys again."""
        self.keys.show(self.state.view, False)
        self.say_result()

    def on_watch_picked(self, message: Watch.Picked) -> None:
        """A row of Watch."""
        self.change("pick", pick=message.key)

    def on_watch_asked(self, message: Watch.Asked) -> None:
        """A group, as frames."""
        self.change("frames of a group", view=FRAMES, ask=self._only(message.ask))

    def on_watch_opened(self, message: Watch.Opened) -> None:
        """Only this identifier, as frames."""
        self._frames_of(message.key)

    def _only(self, term: str) -> str:
        """The ask in force, narrowed to a term."""
        from keel.ask.narrowing import only

        return only(self.state.ask, term)

    def _frames_of(self, key: int, frame: int | None = None) -> None:
        from keel.app.views.watch.view import ask_for

        picture = self.picture
        if picture is not None:
            self.views[FRAMES].following = frame is None
            ask = self._only(ask_for(picture, key))
            self.change("frames of one", view=FRAMES, ask=ask, pick=key, frame=frame)

    def on_frames_picked(self, message: Frames.Picked) -> None:
        """A frame was taken in hand."""
        old, new = self.state, replace(self.state, pick=message.key, frame=message.number)
        if not (self.history.steps and self.history.steps[-1].words == "frame"):
            self.history.push("frame", lambda: self._set(old), lambda: self._set(new))
        self.state = new
        self.say_result()

    def on_health_view_picked(self, message: HealthView.Picked) -> None:
        """A row of Health."""
        self.change("pick", pick=message.key)

    def on_health_view_jump(self, message: HealthView.Jump) -> None:
        """From Health to the frames."""
        if self.picture is None:
            return
        if message.key is None:
            self.views[FRAMES].following = False
            self.change("jump", view=FRAMES, ask=self._only(message.ask), frame=message.number)
            return
        moment = message.moment
        self._frames_of(message.key, None if moment is None else self.picture.matches.frame_at(moment))

    def on_hunt_picked(self, message: Hunt.Picked) -> None:
        """A candidate."""
        self.state = replace(self.state, pick=message.key)

    def on_hunt_search(self, message: Hunt.Search) -> None:
        """Search, off the interface thread."""
        if self.picture is not None:
            self._search(self.picture, message.sought)

    @work(thread=True, exclusive=True, group="hunt")
    def _search(self, picture: Picture, sought: Sought) -> None:
        from keel.app.views.hunt.search import Result, search

        worker = get_current_worker()
        take = self.views[HUNT].take

        def show(partial: Result) -> None:
            if not worker.is_cancelled:
                self.call_from_thread(take, partial)

        try:
            result = search(picture, sought, lambda: worker.is_cancelled, show)
        except (KeelError, ValueError, ArithmeticError, LookupError) as error:
            self.call_from_thread(self.tell, str(error), 8, True)
            self.call_from_thread(take, None)
            return
        self.call_from_thread(take, None if worker.is_cancelled else result)

    def do_give_up(self) -> None:
        """Give up the search, or comparing."""
        self.workers.cancel_group(self, "hunt")
        self.workers.cancel_group(self, "compare")

    def on_hunt_keep(self, message: Hunt.Keep) -> None:
        """Ask for a name, then keep the candidate as a signal."""
        picture, editing, candidate = self.picture, self.editing, message.candidate
        hunt = self.views[HUNT]
        if picture is None or editing is None or hunt.result is None:
            return
        structure = hunt.result.traffic.structures.get(candidate.key)

        def keep(text: str | None) -> None:
            if text:
                from keel.app.desk.editing import named_signal

                signal = named_signal(text, candidate)
                self.tell(editing.keep_signal(picture, candidate.key, signal, structure))

        title = f"Name for {picture.name(candidate.key)} {candidate.field.words()}"
        hint = "name, unit, texts: “speed, km/h” or “gear 0=park 1=drive”   enter keep   esc leave"
        self.push_screen(dialogs.AskName(title, hint, ""), keep)

    def on_hunt_rule_out(self, message: Hunt.RuleOut) -> None:
        """Rule candidates out; can be taken back."""
        view = self.views[HUNT]
        before, after = view.ruled_out, view.ruled_out | message.names
        self.history.push(message.words, lambda: view.rule_out(before), lambda: view.rule_out(after))
        view.rule_out(after)
        self.tell(f"{message.words}; ⌫ takes it back", 2)

    def on_hunt_jump(self, message: Hunt.Jump) -> None:
        """To the frames of what is wrong, in the bad recording."""
        from keel.ask.narrowing import of_key

        picture = self.picture
        if picture is None:
            return
        result, key = self.views[HUNT].result, message.key
        if message.bad is not None and result is not None and result.buses is not None:
            there = result.buses.to_b(key)
            if there is None:
                self.tell("there are no such frames in the bad recording", 3)
                return
            ask = str(of_key(there, result.buses.b[there >> 56]))
        else:
            ask = str(of_key(key, picture.bus_name(key)))
        if message.bad is not None and message.times:
            self._open_at(message.bad, ask, message.times[0])
        elif message.times and message.key in picture.census:
            self._frames_of(message.key, picture.matches.frame_at(message.times[0]))
        else:
            self._frames_of(message.key)

    @work(thread=True, group="shelf")
    def _open_at(self, given: Path, ask: str, time: int) -> None:
        from keel.app.views.compare.run import frame_at
        from keel.store.library import find_recording

        try:
            folder = find_recording(given)
            number = frame_at(folder, time)
        except KeelError as error:
            self.call_from_thread(self.tell, str(error), 8, True)
            return
        self.call_from_thread(self.switch, folder, State(view=FRAMES, ask=ask, frame=number))

    def on_hunt_asked(self, message: Hunt.Asked) -> None:
        """Evidence is to be given."""
        if self.picture is not None and self.editing is not None:
            ask_evidence(self, self.views[HUNT], message.what, self.picture, self.editing)

    def on_compare_view_run(self, message: CompareView.Run) -> None:
        """Compare, off the interface thread."""
        if self.picture is not None:
            self._compare(self.picture, message.task)

    @work(thread=True, exclusive=True, group="compare")
    def _compare(self, picture: Picture, task: Task) -> None:
        from keel.app.views.compare.run import run

        worker = get_current_worker()
        try:
            found = run(picture.snapshot, task, lambda: worker.is_cancelled)
        except KeelError as error:
            self.call_from_thread(self.tell, str(error), 8, True)
            found = None
        self.call_from_thread(self.views[COMPARE].take, None if worker.is_cancelled else found)

    def on_compare_view_with_which(self, message: CompareView.WithWhich) -> None:
        """Choose the other recording."""
        self._choose_other()

    @work(thread=True, group="shelf")
    def _choose_other(self) -> None:
        from keel.app.views.compare.run import others

        choices = others(self._folder)
        self.call_from_thread(choose_recording, self, "compare with", choices, self.views[COMPARE].compare_with)

    def on_compare_view_match(self, message: CompareView.Match) -> None:
        """Say which bus is which."""
        choose_buses(self, message.buses, self.views[COMPARE].match)

    def on_compare_view_jump(self, message: CompareView.Jump) -> None:
        """To the frames of one side; another recording is opened for it."""
        from keel.app.views.compare.run import place_of
        from keel.ask.narrowing import of_key

        view = self.views[COMPARE]
        if view.found is None or view.asked is None:
            return
        side = view.found.a if message.side == "a" else view.found.b
        key, number = place_of(view.found, message.side, message.difference)
        if key is None and number is None:
            return self.tell("there are no such frames on this side", 3)
        ask = str(of_key(key, side.bus(key))) if key is not None else ""
        folder = view.asked.home if message.side == "a" else view.asked.other or view.asked.home
        self.views[FRAMES].following = False
        if folder is not None and folder != self._folder:
            self.switch(folder, State(view=FRAMES, ask=ask, pick=key, frame=number))
        else:
            self.change("jump", view=FRAMES, ask=ask, pick=key, frame=number)

    def on_values_wanted(self, message: Values.Wanted) -> None:
        """Other values are to be read."""
        self._wish()

    def on_values_picked(self, message: Values.Picked) -> None:
        """A signal's identifier."""
        self.state = replace(self.state, pick=message.key)

    def on_values_expect(self, message: Values.Expect) -> None:
        """Type what the device displays; empty takes back what was typed for this signal."""
        from keel.app.desk.readings import reading_in

        picture, editing, of = self.picture, self.editing, message.row.full
        if picture is None or editing is None:
            return

        def typed(text: str | None) -> None:
            if text is None:
                return
            try:
                changed = reading_in(message.moment, text, of, picture.whole.start)
            except ValueError as error:
                self.tell(str(error), 4, error=True)
                return
            editing.edit(f"expected {of}", changed)

        at = words.seconds(message.moment - picture.whole.start)
        hint = "a number, or the name of a file of times and values; empty removes it   enter keep   esc leave"
        self.push_screen(dialogs.AskName(f"What {of} should be at {at} s", hint, "", empty=True), typed)

    def on_values_to_page(self, message: Values.ToPage) -> None:
        """Put a signal on a page, or take it off."""
        picture, editing, of = self.picture, self.editing, message.row.full
        if picture is None or editing is None:
            return
        pages = picture.snapshot.manifest.pages
        proposal = self.views[VALUES].page or (pages[-1].name if pages else "mine")

        def named(name: str | None) -> None:
            if name:
                editing.edit(f"page {name}", lambda manifest: asks.on_page(manifest, name, of))
                self.tell(f"{of}: page {name}; g shows it", 3)

        hint = "a page it is on already loses it   enter keep   esc leave"
        self.push_screen(dialogs.AskName(f"The page for {of}", hint, proposal), named)

    def do_dictionaries(self) -> None:
        """Which dictionaries are used."""
        from keel.app.dialogs.dictionaries import Answer, Dictionaries, changed

        picture, editing = self.picture, self.editing
        if picture is None or editing is None:
            return
        manifest = picture.snapshot.manifest

        def answered(answer: Answer | None) -> None:
            if answer is None:
                return
            if answer.do == "use":
                self._use_dictionary(Path(answer.path).expanduser())
                return
            entries = changed(manifest.dictionaries, answer, manifest.bus_names)
            editing.edit("dictionaries", lambda m: setattr(m, "dictionaries", entries))
            self.set_timer(0.5, self.do_dictionaries)

        self.push_screen(Dictionaries(manifest, Path.cwd()), answered)

    @work(thread=True, group="save")
    def _use_dictionary(self, path: Path) -> None:
        from keel.signals.loading import load_dictionary

        editing = self.editing
        assert editing is not None
        try:
            loaded = load_dictionary(path)
        except KeelError as error:
            self.call_from_thread(self.tell, str(error), 8, True)
            return
        editing.use_dictionary(loaded)
        messages = len(loaded.dictionary.messages)
        said = f"{path.name}: {messages} messages"
        if loaded.problems:
            said += f"; {len(loaded.problems)} statements were passed over, the first at {loaded.problems[0].words()}"
        self.call_from_thread(self.tell, said, 6, bool(loaded.problems))

    def on_bench_worked(self, message: Bench.Worked) -> None:
        """Ask the recorder to work a control."""
        if self.editing is not None:
            self.editing.work_control(message.name, message.value)

    def do_export(self) -> None:
        """Choose what to save."""
        picture = self.picture
        if picture is None:
            return
        if picture.ask_error:
            self.tell(f"nothing can be saved: the ask cannot be used, {picture.ask_error}", 6, error=True)
            return
        from keel.app.dialogs import saving

        hunt, values = self.views[HUNT], self.views[VALUES]
        subject = saving.Subject(
            self.state.view,
            self.state.pick,
            hunt.candidate,
            hunt.result,
            tuple(values.plotted),
            tuple(values.cursors),
            self.views[COMPARE].found,
        )

        def chosen(answer: tuple[str, str] | None) -> None:
            if answer is not None and answer[1].strip():
                self._save(lambda: saving.save(answer[0], Path(answer[1]).expanduser(), picture, subject), answer[1])

        self.push_screen(dialogs.Export(saving.offers(picture, subject)), chosen)

    @work(thread=True, group="save")
    def _save(self, job: Any, path: str) -> None:
        try:
            lost = job()
        except (KeelError, OSError) as error:
            self.call_from_thread(self.tell, str(error), 8, True)
        else:
            self.call_from_thread(self.tell, "; ".join((f"saved {path}", *lost)), 8 if lost else 4, bool(lost))
