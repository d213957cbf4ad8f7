"""Waveforms come in: files of them from the list of recordings, probes of lines aboard from the bench."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from textual.pilot import Pilot

from keel.app.dialogs.library import LibraryList
from keel.app.dialogs.wave_preview import WavePreview
from keel.app.dialogs.working import Working
from keel.app.main import KeelApp
from keel.probe import importing
from keel.probe.adding import add_waveforms
from keel.store.manifest import load_manifest
from keel.store.recording import Recording
from tests.app.driving import has_said, is_open, opened, plain_recording, shown, until
from tests.app.test_shelf import choosing, listed, looked
from tests.lines.waves import vcd, volts
from tests.lines.wires import uart, wave
from tests.making import START
from tests.probe.test_adding import probe, recorded_bus

TALK = wave(uart(b"+12.5V\r\n" * 3, 9600, pauses=([40.0] + [0.0] * 7) * 3))


def volts_as_text() -> str:
    samples = volts(TALK, 10_000, 0.0, 3.3, 4_000, 0.02)
    return "Sample interval;10 us\nprobe (V)\n" + "".join(f"{value:.3f}\n" for value in samples)


@pytest.fixture
def beside(shelf_of_its_own: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder with a dump and a text of volts, in which the app is started, and a shelf without a recording."""
    shelf_of_its_own.mkdir()
    monkeypatch.chdir(tmp_path)
    (tmp_path / "talk.vcd").write_bytes(vcd(tx=TALK))
    (tmp_path / "volts.txt").write_text(volts_as_text())
    return shelf_of_its_own


async def take(app: KeelApp, pilot: Pilot[None], name: str) -> None:
    """Import one of them."""
    await looked(app, pilot)
    await pilot.press("i")
    await choosing(app, pilot)
    await pilot.press(*name, "enter")


async def test_a_dump_is_imported_from_the_list_and_opens_in_line(beside: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await looked(app, pilot)
        await until(pilot, lambda: "talk.vcd  value change dump" in "\n".join(listed(app)))
        await take(app, pilot, "talk")
        await until(pilot, lambda: is_open(app, "line") and "serial at 9," in shown(app))


async def test_volts_are_shown_as_they_would_be_read_before_they_are_imported(beside: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await take(app, pilot, "volts")
        await until(pilot, lambda: isinstance(app.screen, WavePreview))
        assert isinstance(app.screen, WavePreview)
        text = "\n".join(line.text() for line in app.screen.preview.paint(160, 40))
        assert "a sample each 10.0 µs" in text and "probe" in text and "one column ·" in text
        await pilot.press("right", "left", "enter")
        await until(pilot, lambda: is_open(app, "line") and "serial at 9," in shown(app))


def preview_text(app: KeelApp) -> str:
    assert isinstance(app.screen, WavePreview)
    return "\n".join(line.text() for line in app.screen.preview.paint(160, 40))


async def test_every_guess_of_a_text_is_corrected_before_it_is_imported(beside: Path) -> None:
    Path("odd.csv").write_text("a;b;c\n" + "".join(f"{n};{n % 2 * 33};{n % 5}\n" for n in range(400)))
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await take(app, pilot, "odd")
        await until(pilot, lambda: isinstance(app.screen, WavePreview))
        assert "semicolon-separated" in preview_text(app) and "times in s in the first column" in preview_text(app)
        # Times are in ms, the first channel in mV with a probe of ten to one.
        await pilot.press("u", "right", "u")
        await until(pilot, lambda: "times in ms" in preview_text(app) and "channel mV" in preview_text(app))
        await pilot.press("g", *"100", "enter", "o", *"1.5", "enter")
        await until(pilot, lambda: "b x 100 · b + 1.5 V" in preview_text(app))
        assert "a sample each 1.0 ms" in preview_text(app) and "1.5  4.8  1.5" in preview_text(app)
        # No times after all, but an interval.
        await pilot.press("t")
        await until(pilot, lambda: "no times, no interval" in preview_text(app))
        await pilot.press("i", *"often", "enter")
        await until(pilot, lambda: any("is no time" in one.message for one in app._notifications))
        await pilot.press("i", *"20us", "enter")
        await until(pilot, lambda: "a sample each 20.0 µs" in preview_text(app))
        await pilot.press("t", "enter")
        await until(pilot, lambda: is_open(app, "line"))
        manifest = load_manifest(app.state.folder) if app.state.folder else None
        assert manifest is not None
        entry = next(one for one in manifest.waveforms if one.name == "b")
        assert entry.step == 1e6
        assert any("set by hand: gain 100, offset 1.5 V" in note for note in entry.notes)


async def test_a_preview_that_is_left_imports_nothing(beside: Path) -> None:
    app = KeelApp(None)
    async with app.run_test(size=(160, 40)) as pilot:
        await take(app, pilot, "volts")
        await until(pilot, lambda: isinstance(app.screen, WavePreview))
        await pilot.press("escape")
        await until(pilot, lambda: bool(app.screen.query(LibraryList)))
    assert not list(beside.iterdir())


async def test_the_bench_probes_a_line_into_a_recording_of_its_own(shelf_of_its_own: Path, tmp_path: Path) -> None:
    async with opened(plain_recording(tmp_path / "r.keel")) as (app, pilot):
        await pilot.press("9")
        await until(pilot, lambda: is_open(app, "bench"))
        await pilot.press("p")
        await choosing(app, pilot)
        await pilot.press(*"depth", "enter")
        await pilot.press("backspace", *"1.2", "enter")
        await until(pilot, lambda: is_open(app, "line") and "serial at 4,8" in shown(app))
        assert app.state.folder is not None and app.state.folder.parent == shelf_of_its_own
        manifest = load_manifest(app.state.folder)
        assert [one.name for one in manifest.waveforms if one.is_channel] == ["host", "device"]
        assert [bus.name for bus in manifest.buses] == ["host", "device"]
        await pilot.press("backspace")
        await until(pilot, lambda: app.state.folder == tmp_path / "r.keel")


async def test_a_probe_that_is_given_up_leaves_nothing(
    shelf_of_its_own: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async with opened(plain_recording(tmp_path / "r.keel")) as (app, pilot):
        await pilot.press("9")
        await until(pilot, lambda: is_open(app, "bench"))
        await pilot.press("p")
        await choosing(app, pilot)
        await pilot.press(*"bus", "enter")
        await pilot.press("backspace", *"100", "enter")
        await until(pilot, lambda: isinstance(app.screen, Working))
        await pilot.press("escape")
        await until(pilot, lambda: not isinstance(app.screen, Working))
    assert not shelf_of_its_own.exists() or not list(shelf_of_its_own.iterdir())


def test_what_is_given_up_half_way_leaves_nothing(tmp_path: Path) -> None:
    (tmp_path / "talk.vcd").write_bytes(vcd(tx=TALK))
    told: list[int] = []

    def at(done: int, total: int) -> None:
        assert 0 <= done <= total
        told.append(done)
        if done > importing.DECODED:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        importing.import_waveforms([tmp_path / "talk.vcd"], tmp_path / "talk.keel", progress=at)
    assert told == sorted(told) and np.unique(told).size > 3
    assert [path.name for path in tmp_path.iterdir()] == ["talk.vcd"]


async def test_a_frame_of_a_bus_is_seen_on_the_probe_of_it(tmp_path: Path) -> None:
    live = recorded_bus(tmp_path / "live.keel")
    (tmp_path / "wire.vcd").write_bytes(vcd(wire=probe()))
    add_waveforms([tmp_path / "wire.vcd"], live, None)
    snapshot = Recording(live).snapshot()
    rows = snapshot.rows(0, snapshot.frames)
    middle = int(np.flatnonzero((rows.bus == 0) & (rows.time > START + 1_700_000_000))[0])
    async with opened(live) as (app, pilot):
        app.change("frame", replace(app.state, view="frames", frame=middle))
        await until(pilot, lambda: is_open(app, "frames"))
        await pilot.press("W")
        await until(pilot, lambda: is_open(app, "line"))
        twin = app.state.frame
        assert twin is not None and rows.bus[twin] == 2 and rows.payload(twin) == rows.payload(middle)
        assert app.state.lens is not None and app.state.lens.end - app.state.lens.start < 1_000_000
        app.change("frame", replace(app.state, view="frames", frame=0, lens=None))
        await until(pilot, lambda: is_open(app, "frames"))
        await pilot.press("W")
        await until(pilot, lambda: has_said(app, "the probe has no frame like this one at that time"))
