"""The preview of a delimited text, driven through its pilot."""

from __future__ import annotations

import threading
from pathlib import Path

from keel.app.dialogs.import_preview import PreviewApp
from keel.formats.layout import Layout, remembered

TABLE = "ms;line;ident;b0;b1\n0,5;1;1A0;00;11\n0,7;2;220;22;33\nx;1;1A0;00;00\n"


def shown(app: PreviewApp) -> str:
    return "\n".join(line.text() for line in app.preview.paint(160, 40))


async def test_a_guess_is_shown_corrected_and_remembered(tmp_path: Path) -> None:
    path = tmp_path / "table.csv"
    path.write_text(TABLE)
    app = PreviewApp(path)
    async with app.run_test(size=(160, 40)) as pilot:
        assert "semicolon-separated · header · time in ms" in shown(app)
        assert "skipped 1: time is no number (first at line 4)" in shown(app)
        await pilot.press("u")
        assert "time in us" in shown(app)
        # The second column becomes something else, then nothing that is read.
        await pilot.press("right", "down")
        assert app.preview.role(1) == "len"
        await pilot.press("h")
        assert "no header" in shown(app)
        await pilot.press("h", "enter")
    assert app.return_value == Layout("semicolon", ("time", "len", "id", "byte", "byte"), header=True, unit="us")
    for thread in threading.enumerate():
        if thread.name == "layout":
            thread.join()
    assert remembered(TABLE.encode()) == app.return_value


async def test_without_a_time_nothing_is_imported(tmp_path: Path) -> None:
    path = tmp_path / "table.csv"
    path.write_text(TABLE)
    app = PreviewApp(path)
    async with app.run_test(size=(100, 30)) as pilot:
        await pilot.press("up")
        assert "no column holds the time" in shown(app)
        await pilot.press("enter")
        assert app.return_value is None and app.is_running
        await pilot.press("escape")
    assert app.return_value is None
