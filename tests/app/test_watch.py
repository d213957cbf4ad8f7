"""Watch: every column sorts as its values do, columns are hidden and remembered, hush learns and learns on."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from textual.pilot import Pilot

from keel.app.frame.stage import Stage
from keel.app.main import KeelApp
from keel.app.views.watch.choices import WatchChoices
from keel.app.views.watch.view import ALWAYS, COLUMNS
from keel.measure.census import Tally
from keel.media.every import key_words
from keel.model.faults import Fault
from keel.model.settings import setting
from keel.store.writer import Writer
from tests.app.driving import has_said, is_open, opened, picture_of, shown, until
from tests.making import START, Row, batch, recorded

MS = 1_000_000
SENDERS: dict[int, tuple[int, Callable[[int], bytes], int]] = {
    # identifier: every so many ms, payload of the running number, faulty every so often
    0x101: (10, lambda i: bytes([i & 0xFF, 0, 0, 0]), 50),
    0x202: (20, lambda i: bytes([7]), 0),
    0x303: (50, lambda i: bytes([i // 4 & 0xFF, 9]), 5),
    0x044: (100, lambda i: bytes(8), 0),
}


def traffic(first_ms: int, last_ms: int) -> list[Row]:
    rows = []
    for ident, (every, payload, faulty) in SENDERS.items():
        for i in range(first_ms // every, last_ms // every):
            faults = int(Fault.CRC) if faulty and i % faulty == faulty - 1 else 0
            rows.append(Row(START + i * every * MS + ident, ident, payload(i), faults=faults))
    return sorted(rows, key=lambda row: row.time)


@pytest.fixture
def talking(tmp_path: Path) -> Path:
    recorded(tmp_path / "talking.keel", batch(traffic(0, 4000)))
    return tmp_path / "talking.keel"


@pytest.fixture
def live(tmp_path: Path) -> Iterator[tuple[Path, Writer]]:
    """A recording that is being written."""
    recorded(tmp_path / "live.keel", batch(traffic(0, 2000)))
    writer = Writer(tmp_path / "live.keel")
    writer.append(batch(traffic(2000, 2500)))
    yield tmp_path / "live.keel", writer
    writer.close()


def order(app: KeelApp) -> list[str]:
    """The identifiers from top to bottom."""
    names = [key_words(key) for key in picture_of(app).census]
    found = [(shown(app).splitlines()[1:25], name) for name in names]
    places = {name: next(i for i, row in enumerate(rows) if f" {name} " in row) for rows, name in found}
    return sorted(names, key=places.__getitem__)


def worth(column: str, ident: str, tally: Tally) -> float:
    """What a column sorts by, said another way."""
    every, payload, _ = SENDERS[int(ident, 16)]
    return {
        "frames": tally.frames,
        "rate": 1000 / every,
        "cycle": every,
        "len": len(payload(1)),
        "moved": tally.changes,
        "faults": tally.faults,
        "id": int(ident, 16),
    }[column]


@pytest.mark.parametrize("column", ["id", "frames", "rate", "cycle", "len", "moved", "faults"])
async def test_a_column_sorts_as_its_values_do(talking: Path, column: str) -> None:
    async with opened(talking) as (app, pilot):
        for _ in COLUMNS:
            if app.state.of(WatchChoices).sort == column:
                break
            await pilot.press("s")
        assert app.state.of(WatchChoices).sort == column
        tallies = {key_words(key): tally for key, tally in picture_of(app).census.items()}
        values = [worth(column, ident, tallies[ident]) for ident in order(app)]
        assert values in (sorted(values), sorted(values, reverse=True)) and len(set(values)) > 1
        await pilot.press("S")
        again = [worth(column, ident, tallies[ident]) for ident in order(app)]
        assert again == sorted(values, reverse=values == sorted(values))


async def test_a_click_on_a_title_sorts_and_another_turns_it_round(talking: Path) -> None:
    async with opened(talking) as (app, pilot):
        at = shown(app).splitlines()[0].index("frames")
        await pilot.click(Stage, offset=(at + 2, 0))
        first = order(app)
        await pilot.click(Stage, offset=(at + 2, 0))
        assert order(app) == first[::-1] and first[0] == "101"


async def hide(app: KeelApp, pilot: Pilot[None], name: str) -> None:
    await pilot.press("c")
    await until(pilot, lambda: len(app.screen_stack) == 2)
    names = [column.name for column in COLUMNS if column.name not in ALWAYS]
    await pilot.press("home", *["down"] * names.index(name), "enter")
    await until(pilot, lambda: len(app.screen_stack) == 2)
    await pilot.press("escape")
    await until(pilot, lambda: len(app.screen_stack) == 1)


async def test_a_hidden_column_stays_hidden_until_it_is_shown_again(talking: Path) -> None:
    async with opened(talking) as (app, pilot):
        assert "std ms" in shown(app)
        await hide(app, pilot, "jitter")
        assert "std ms" not in shown(app) and setting("views", "watch hides", [""]) == ["jitter"]
    async with opened(talking) as (app, pilot):
        assert "std ms" not in shown(app)
        await hide(app, pilot, "jitter")
        assert "std ms" in shown(app) and setting("views", "watch hides", [""]) == []


async def test_payloads_in_every_form(talking: Path) -> None:
    async with opened(talking) as (app, pilot):
        seen = []
        for _ in range(4):
            (row,) = [row for row in shown(app).splitlines() if " 202 " in row]
            seen.append(row)
            await pilot.press("x")
        # 07 in hex, bits, decimal and text, and the first form again.
        assert " 07 " in seen[0] and "00000111" in seen[1] and " 7 " in seen[2] and "·" in seen[3]
        assert [row for row in shown(app).splitlines() if " 202 " in row] == seen[:1]


async def test_hush_learns_on_and_says_how_long(live: tuple[Path, Writer]) -> None:
    folder, writer = live
    async with opened(folder) as (app, pilot):
        await until(pilot, lambda: picture_of(app).snapshot.live)
        await pilot.press("U")
        assert has_said(app, "u begins to learn what moves by itself")
        await pilot.press("u")
        await until(pilot, lambda: app.state.learning is not None)
        writer.append(batch(traffic(2500, 3500)))
        await until(pilot, lambda: picture_of(app).snapshot.span.end > START + 3400 * MS)
        await pilot.press("u")
        await until(pilot, lambda: "learnt for 1.0 s what moves by itself" in shown(app))
        first = app.state.hush
        await pilot.press("U")
        assert app.state.hush is None and app.state.learning == (first.start if first else None)
        writer.append(batch(traffic(3500, 5500)))
        await until(pilot, lambda: picture_of(app).snapshot.span.end > START + 5400 * MS)
        await pilot.press("u")
        await until(pilot, lambda: "learnt for 3.0 s what moves by itself" in shown(app))
        # A byte that never moved before does now, and only its identifier reacts.
        writer.append(batch([Row(START + 5600 * MS, 0x202, b"\x55"), Row(START + 5610 * MS, 0x202, b"\xaa")]))
        await until(pilot, lambda: "1 identifier reacts" in shown(app))
        await pilot.press("u")
        await until(pilot, lambda: "learnt for" not in shown(app))


async def test_the_wheel_and_the_keys_move_the_pick_and_stop_at_the_ends(talking: Path) -> None:
    async with opened(talking) as (app, pilot):
        await pilot.press("home")
        await until(pilot, lambda: app.state.pick is not None and key_words(app.state.pick) == "044")
        await pilot.press("up", "pageup")
        assert app.state.pick is not None and key_words(app.state.pick) == "044"
        await pilot.press("end", "down", "pagedown")
        await until(pilot, lambda: app.state.pick is not None and key_words(app.state.pick) == "303")
        await pilot.press("enter")
        await until(pilot, lambda: is_open(app, "frames") and app.state.ask == "id:303")
