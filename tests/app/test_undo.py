"""Back and forward: every change a person made, none that he did not make, and where he was."""

from __future__ import annotations

import errno
from pathlib import Path

import pytest

from keel.app.desk.deeds import Deed
from keel.app.desk.edits import check, named_ask, note_on
from keel.app.views.compare.choices import CompareChoices
from keel.app.views.frames.choices import FramesChoices
from keel.app.views.values.choices import ValuesChoices
from keel.app.views.watch.choices import WatchChoices
from keel.errors import RecordingError
from keel.model.fields import BitField
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message
from keel.signals.signal import Signal
from keel.store import manifest
from keel.store.manifest import NamedAsk, edit_manifest, load_manifest
from tests.app.driving import compare_with, compared, frame_in_hand, is_open, notes, opened, shown, until
from tests.making import START, Row, batch, recorded


async def test_zero_is_undone_and_redone(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2", "down", "down", "z")
        zero = app.state.zero
        assert zero is not None
        await pilot.press("backspace")
        assert app.state.zero is None and frame_in_hand(app) == 2
        await pilot.press("greater_than_sign")
        assert app.state.zero == zero


async def test_hold_is_no_change_and_no_undo_releases_it(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("s", "space", "g")
        await pilot.press("backspace", "backspace")
        assert app.state.held and app.state.of(WatchChoices) == WatchChoices()
        await pilot.press("backspace")
        assert "there is nothing to undo" in notes(app)


async def test_eight_moves_back_and_forward_land_where_he_was(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        await pilot.press("2")
        await until(pilot, lambda: is_open(app, "frames"))
        await pilot.press(*["down"] * 8)
        assert frame_in_hand(app) == 8
        await pilot.press("backspace")
        assert frame_in_hand(app) == 0
        await pilot.press("greater_than_sign")
        assert frame_in_hand(app) == 8


async def test_undoing_my_check_leaves_what_another_terminal_wrote(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        app.edit("check", check("load(a) < 90%", True))
        await until(pilot, lambda: load_manifest(plain).checks == ["load(a) < 90%"])
        with edit_manifest(plain) as written:
            written.asks = [NamedAsk("theirs", "fault")]
            written.checks = [*written.checks, "count(fault) = 0"]
        await pilot.press("backspace")
        await until(pilot, lambda: load_manifest(plain).checks == ["count(fault) = 0"])
        assert [a.name for a in load_manifest(plain).asks] == ["theirs"]
        await pilot.press("greater_than_sign")
        await until(pilot, lambda: load_manifest(plain).checks == ["load(a) < 90%", "count(fault) = 0"])


async def test_what_both_changed_is_left_and_said(plain: Path) -> None:
    async with opened(plain) as (app, pilot):
        app.edit("note on frame 4", note_on(3, "mine"))
        await until(pilot, lambda: [c.text for c in load_manifest(plain).comments] == ["mine"])
        with edit_manifest(plain) as written:
            written.comments = [type(written.comments[0])(3, "theirs")]
        await pilot.press("backspace")
        await until(pilot, lambda: "the note changed meanwhile, and was left as it is" in notes(app))
        assert [c.text for c in load_manifest(plain).comments] == ["theirs"]


async def test_after_a_jump_to_the_other_recording_back_returns(plain: Path, tmp_path: Path) -> None:
    other = tmp_path / "other.keel"
    recorded(other, batch([Row(START + i * 10_000_000, 0x0A4, b"\x01\x02") for i in range(300)]))
    async with opened(plain) as (app, pilot):
        compare_with(app, other)
        await until(pilot, lambda: is_open(app, "compare") and compared(app) is not None)
        await pilot.press("down")
        before = app.state
        await pilot.press("b")
        await until(pilot, lambda: app.state.folder == other and is_open(app, "frames"))
        await pilot.press("backspace")
        await until(pilot, lambda: app.state.folder == plain and is_open(app, "compare"))
        assert app.state == before and app.state.of(CompareChoices).task is not None
        # Both were read before: the comparison is there at once, not made anew.
        await until(pilot, lambda: compared(app) is not None and "what is different?" in shown(app))
        await pilot.press("greater_than_sign")
        await until(pilot, lambda: app.state.folder == other and is_open(app, "frames"))


async def test_choices_of_every_view_are_undone_in_their_order(tmp_path: Path) -> None:
    book = Dictionary((Message("a", Form.BASE, 0x100, "One", (Signal("level", BitField(0, 8)),)),))
    recorded(
        tmp_path / "r.keel",
        batch([Row(START + i * 10_000_000, 0x100, bytes([i])) for i in range(100)]),
        dictionary=book,
    )
    async with opened(tmp_path / "r.keel") as (app, pilot):
        seen = [app.state]
        for key in (
            "s",
            "S",
            "g",
            "x",
            "2",
            "t",
            "x",
            "a",
            "plus",
            "5",
            "enter",
            "c",
            "c",
            "v",
            "h",
            "3",
            "b",
            "6",
            "s",
        ):
            await pilot.press(key)
            if app.state != seen[-1]:
                seen.append(app.state)
        await until(pilot, lambda: app.picture is not None)
        assert len(seen) > 15
        assert app.state.of(ValuesChoices).cursors and app.state.of(FramesChoices).time == "clock"
        for state in reversed(seen[:-1]):
            await pilot.press("backspace")
            assert app.state == state
        for state in seen[1:]:
            await pilot.press("greater_than_sign")
            assert app.state == state


def test_an_edit_that_cannot_be_undone_changes_nothing(plain: Path) -> None:
    told: list[str] = []
    deed = Deed(plain, "named ask", named_ask("x", "fault"), lambda sentence, _: told.append(sentence))
    deed.do()
    assert [a.name for a in load_manifest(plain).asks] == ["x"]
    deed.undo()
    assert load_manifest(plain).asks == [] and not told
    deed.redo()
    with edit_manifest(plain) as written:
        written.asks = [NamedAsk("x", "moved")]
    deed.undo()
    assert [a.text for a in load_manifest(plain).asks] == ["moved"]
    assert told == ["named ask: the named ask changed meanwhile, and was left as it is"]


def test_an_undo_that_could_not_be_written_is_not_made_by_the_redo(
    plain: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    deed = Deed(plain, "named ask", named_ask("x", "fault"), lambda *_: None)
    deed.do()

    def full(*_: object, **__: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(manifest, "write_atomically", full)
        with pytest.raises(RecordingError):
            deed.undo()
    # It stands: making it again changes nothing, and taking it back still can.
    deed.redo()
    assert [a.name for a in load_manifest(plain).asks] == ["x"]
    deed.undo()
    assert load_manifest(plain).asks == []
