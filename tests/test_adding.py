"""What CONTRIBUTING says of adding things is so: a term, a view, a format, a drawing and a source that live in a
package of their own are found everywhere once they are named in one list."""

from __future__ import annotations

import importlib
import json
import sys
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

import pytest

from keel.app.dialogs.guide import guide_text
from keel.app.dialogs.offers import offers_of
from keel.app.frame.command_palette import KeelCommands
from keel.app.main import KeelApp
from keel.app.views.every import DOORS
from keel.ask.completion import complete
from keel.ask.language import parse
from keel.ask.vocabulary import TERMS
from keel.draw.drawings import DRAWINGS
from keel.errors import AskError, InputError
from keel.formats.importing import import_files
from keel.formats.registry import FORMATS, recognise
from keel.lines.codes import CODES
from keel.model.faults import FAULT_BY_WORD, Fault
from keel.opened import Opened
from keel.sources.registry import KINDS, open_source
from tests.app.driving import opened, plain_recording, shown, until
from tests.command import keel

PACKAGE = {
    "__init__.py": '"""Things that are added."""\n',
    "term.py": '''
"""A term: payloads of an odd number of bytes."""

from keel.ask import terms
from keel.ask.term import Term

TERM = Term(
    ("odd",),
    "ODD",
    "ODD.2: /odd(?!\\\\w)/i",
    lambda *_: terms.Length("=", 7),
    (("odd", "payloads of seven bytes"),),
)
''',
    "view.py": '''
"""A view that counts identifiers."""

from keel.app.frame.action import Action
from keel.app.frame.view import Door, View


class Extra(View):
    def __init__(self):
        self.actions = (Action(("y",), "y", "yes", "Say yes", lambda helm: helm.tell("yes")),)

    def paint(self, here):
        line = here.line()
        line.put(2, f"there are {len(here.picture.census)} of them", here.style("text"))
        return [line]


DOOR = Door("extra", "8", "Extra", "How many? Counted.", Extra)
''',
    "format.py": '''
"""A format: EXTRA, then a byte for each frame."""

from keel.formats.reader import Format
from keel.model.bus import Bus
from tests.making import START, Row, batch


def _read(path, account, progress):
    account.bus_names[:] = ["extra"]
    found = batch([Row(START + i, 0x100, bytes([b])) for i, b in enumerate(path.read_bytes()[5:])])
    account.took(found)
    yield found


FORMAT = Format("extra", lambda head: "begins with EXTRA" if head.startswith(b"EXTRA") else "", _read, None)
''',
    "drawing.py": '''
"""A drawing: how many frames there are."""

from keel.draw.drawings import Drawing

DRAWING = Drawing("extra", "how many frames there are", lambda given, path: path.write_text(str(len(given.matches))))
''',
    "source.py": '''
"""A source that has ended."""

from keel.model.frames import empty_batch
from keel.sources.kind import Kind, Parameter
from keel.sources.source import Source


class Extra(Source):
    title = "extra"

    def __init__(self, given):
        super().__init__()
        self.depth, self.ended = given.values["depth"], True

    def poll(self, wait_s=0.0):
        return empty_batch()


KIND = Kind("extra", "things that have ended", Extra, parameters=(Parameter("depth", "how deep", 1, ("1", "2"), int),))
''',
    "code.py": '''
"""A line code: each pulse of 7 to 9 ns is a frame, whose payload is how long it was."""

import numpy as np

from keel.lines.code import Code, Field, Guess
from keel.lines.evidence import Evidence
from keel.model.bus import Bus
from keel.model.frames import batch_of


def read(logic, unit, asked):
    lengths = np.diff(logic.edges)
    pulses = np.flatnonzero((lengths >= 7) & (lengths <= 9))
    if len(pulses) < len(logic.edges) // 2:
        return []
    payloads = [bytes([length]) for length in lengths[pulses].tolist()]
    frames = batch_of(logic.edges[pulses], 5, payloads, form=2, duration=lengths[pulses])
    bus = Bus("", 1_000, medium="serial")
    return [Guess("pulses", 1_000, None, False, {}, frames, bus, 1.0, Evidence(100.0), "", 0)]


CODE = Code("pulses", "pulses", read, lambda logic, how, a, b: [Field("pulse", a, b, b - a)])
''',
}


@pytest.fixture
def extra(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[ModuleType]:
    """A package with one of each, each named in its list."""
    folder = tmp_path / "extra_things"
    folder.mkdir()
    for name, text in PACKAGE.items():
        (folder / name).write_text(text)
    monkeypatch.syspath_prepend(tmp_path)
    parts = {
        name: importlib.import_module(f"extra_things.{name}")
        for name in ("term", "view", "format", "drawing", "source", "code")
    }
    TERMS.append(parts["term"].TERM)
    DOORS.append(parts["view"].DOOR)
    FORMATS.insert(0, parts["format"].FORMAT)
    DRAWINGS.append(parts["drawing"].DRAWING)
    KINDS["extra"] = parts["source"].KIND
    CODES["pulses"] = parts["code"].CODE
    yield sys.modules["extra_things"]
    TERMS.pop()
    DOORS.pop()
    FORMATS.pop(0)
    DRAWINGS.pop()
    del KINDS["extra"], CODES["pulses"]
    for name in [name for name in sys.modules if name.startswith("extra_things")]:
        del sys.modules[name]


def test_a_term_is_parsed_completed_explained_and_offered(extra: ModuleType, tmp_path: Path) -> None:
    recording = Opened(plain_recording(tmp_path / "r.keel"))
    assert len(recording.frames("odd")) == len(recording.frames("len=7"))
    assert "odd" in complete("od", None)
    assert "payloads of seven bytes" in guide_text([], ())
    with pytest.raises(AskError, match="did you mean odd"):
        parse("id:1A0 or oddd")


async def test_a_view_has_its_key_its_place_its_palette_and_its_guide(extra: ModuleType, tmp_path: Path) -> None:
    async with opened(plain_recording(tmp_path / "r.keel")) as (app, pilot):
        await pilot.press("8")
        await until(pilot, lambda: "there are 3 of them" in shown(app))
        assert "8 Extra" in app.bar.paint(160, 1)[0].text() and "yes" in app.keys.paint(160, 1)[0].text()
        await pilot.press("y")
        assert any(note.message == "yes" for note in app._notifications)
        entries = [text for text, _ in KeelCommands(app.screen)._entries()]
        assert any("Say yes" in text for text in entries) and any("Go to Extra" in text for text in entries)
        guide = guide_text([(door, app.views[door.name].actions) for door in DOORS], app.everywhere)
        assert "How many? Counted." in guide and "Keys in Extra" in guide and "Say yes" in guide
        await pilot.press("backspace")
        assert app.state.view == "watch"


def test_a_format_is_recognised_and_imported(extra: ModuleType, tmp_path: Path) -> None:
    (tmp_path / "a.extra").write_bytes(b"EXTRA\x01\x02\x03")
    assert recognise(tmp_path / "a.extra")[0].name == "extra"
    done = import_files([tmp_path / "a.extra"], tmp_path / "a.keel")
    assert done.frames == 3 and len(Opened(tmp_path / "a.keel").frames("bytes:02")) == 1


async def test_a_drawing_is_drawn_by_the_command_and_offered_by_the_app(extra: ModuleType, tmp_path: Path) -> None:
    recording, out = plain_recording(tmp_path / "r.keel"), tmp_path / "x.svg"
    assert keel("draw", "extra", recording, "-o", out).returncode == 0
    assert int(out.read_text()) == len(Opened(recording).frames())
    async with opened(recording) as (app, _):
        offer = next(o for o in offers_of(app.view, app.here) if o.words == "how many frames there are")
        assert offer.path == "r-extra.svg"


def test_a_source_is_opened_by_its_name(extra: ModuleType) -> None:
    assert open_source("extra").title == "extra"
    assert open_source("extra depth=2").depth == 2  # type: ignore[attr-defined]
    with pytest.raises(InputError, match="depth: “3” is none; expected one of 1, 2"):
        open_source("extra depth=3")
    with pytest.raises(InputError, match="it has no “dept”; expected depth"):
        open_source("extra dept=1")


def test_a_line_code_is_found_kept_and_explained(extra: ModuleType, tmp_path: Path) -> None:
    edges = "".join(f"#{100 * n} 1! #{100 * n + 7 + n % 3} 0! " for n in range(1, 30))
    head = "$timescale 1 ns $end $var wire 1 ! x $end $enddefinitions $end #0 0! "
    (tmp_path / "x.vcd").write_text(head + edges)
    assert keel("decode", tmp_path / "x.vcd", "-o", tmp_path / "x.keel").returncode == 0
    rows = [json.loads(line) for line in keel("frames", tmp_path / "x.keel", "--json", "--fields").stdout.splitlines()]
    assert len(rows) == 29 and rows[0]["payload"] == "08" and rows[0]["fields"][0]["name"] == "pulse"


def test_a_class_of_fault_is_all_in_one_line() -> None:
    for fault in Fault:
        assert fault.title and FAULT_BY_WORD[fault.word] is fault
        assert str(parse(f"fault:{fault.word}")) == f"fault:{fault.word}"


def test_an_app_is_made_with_the_views_there_are() -> None:
    assert [door.name for door in DOORS] == ["watch", "frames", "health", "hunt", "values", "compare", "line", "bench"]
    assert KeelApp(None).bar._doors == DOORS
