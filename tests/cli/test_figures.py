"""What the commands print, against the slowest obvious way to say the same: over any frames, asks and cuts."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keel.media.every import format_ident
from keel.model.faults import fault_words
from keel.model.frames import Flag
from tests.command import keel
from tests.making import BUSES, START, Row, batch, recorded, rows

Test = Callable[[Row], bool]
ASKS: list[tuple[str, Test]] = [
    ("", lambda row: True),
    ("id:220", lambda row: row.ident == 0x220 and row.form == 0),
    ("bus:b", lambda row: row.bus == 1),
    ("not bus:b", lambda row: row.bus == 0),
    ("fault", lambda row: row.faults != 0),
    ("fault:crc", lambda row: bool(row.faults & 1)),
    ("len>3", lambda row: len(row.payload) > 3),
    ("dir:tx", lambda row: bool(row.flags & Flag.TX)),
    ("bytes@0:43", lambda row: row.payload[:1] == b"\x43"),
    ("id:0A4,220 not fault", lambda row: row.ident in (0x0A4, 0x220) and row.form == 0 and not row.faults),
    ("fault or len=0", lambda row: row.faults != 0 or not row.payload),
]


@pytest.fixture(scope="module")
def command() -> Any:
    """Runs a command in this process; gives what it printed."""

    def printed(*words: str | Path) -> str:
        done = keel(*words)
        assert done.returncode == 0, done.stderr
        return done.stdout

    return printed


def folder_of(factory: pytest.TempPathFactory, found: list[Row], cut: int) -> Path:
    folder = factory.mktemp("figures") / "r.keel"
    parts = [batch(found[:cut]), batch(found[cut:])] if 0 < cut < len(found) else [batch(found)]
    recorded(folder, *parts)
    return folder


def said(row: Row) -> dict[str, Any]:
    """A frame as JSON lines say it."""
    return {
        "t": row.time,
        "bus": BUSES[row.bus].name,
        "id": format_ident(row.form, row.ident),
        "ext": bool(row.form),
        "dir": "tx" if row.flags & Flag.TX else "rx",
        "kind": "remote" if row.flags & Flag.REMOTE else "data",
        "payload": row.payload.hex().upper(),
        "faults": fault_words(row.faults),
    }


@settings(max_examples=25)
@given(rows(40), st.sampled_from(ASKS), st.integers(0, 40))
def test_frames_are_those_that_meet_the_ask_in_order(
    tmp_path_factory: pytest.TempPathFactory, command: Any, found: list[Row], ask: tuple[str, Test], cut: int
) -> None:
    folder = folder_of(tmp_path_factory, found, cut)
    text, meets = ask
    wanted = [said(row) for row in found if meets(row)]
    printed = [json.loads(line) for line in command("frames", folder, "--ask", text, "--json").splitlines()]
    assert [{name: frame[name] for name in said(found[0])} for frame in printed] == wanted
    few = command("frames", folder, "--ask", text, "--json", "--limit", "3").splitlines()
    assert [json.loads(line) for line in few] == printed[:3]
    table = list(csv.DictReader(io.StringIO(command("frames", folder, "--ask", text, "--csv"))))
    assert len(table) == len(wanted)
    plain = [line for line in command("frames", folder, "--ask", text).splitlines() if line.strip()]
    assert len(plain) == len(wanted)


def slow_identifiers(found: list[Row]) -> dict[tuple[str, str], dict[str, Any]]:
    """Per bus and identifier what stats say, frame by frame."""
    by_key: dict[tuple[int, int, int], list[Row]] = defaultdict(list)
    for row in found:
        by_key[row.bus, row.form, row.ident].append(row)
    slow = {}
    for (bus, form, ident), same in by_key.items():
        good = [row for row in same if row.is_good]
        steps = [(b.time - a.time) / 1e9 for a, b in zip(good, good[1:], strict=False)]
        slow[BUSES[bus].name, format_ident(form, ident)] = {
            "frames": len(same),
            "first": (same[0].time - found[0].time) / 1e9,
            "last": (same[-1].time - found[0].time) / 1e9,
            "faults": sum(1 for row in same if row.faults),
            "payload_changes": sum(a.payload != b.payload for a, b in zip(good, good[1:], strict=False)),
            "cycle_mean": sum(steps) / len(steps) if steps else None,
            "cycle_min": min(steps) if steps else None,
            "cycle_max": max(steps) if steps else None,
        }
    return slow


@settings(max_examples=25)
@given(rows(40), st.sampled_from(ASKS), st.integers(0, 40))
def test_stats_count_what_a_slow_count_counts(
    tmp_path_factory: pytest.TempPathFactory, command: Any, found: list[Row], ask: tuple[str, Test], cut: int
) -> None:
    folder = folder_of(tmp_path_factory, found, cut)
    text, meets = ask
    kept = [row for row in found if meets(row)]
    stats = json.loads(command("stats", folder, "--ask", text, "--json"))
    for bus in stats["buses"]:
        of_bus = [row for row in kept if BUSES[row.bus].name == bus["bus"]]
        assert bus["frames"] == len(of_bus)
    slow = slow_identifiers(kept)
    start = found[0].time
    assert {(i["bus"], i["id"]) for i in stats["identifiers"]} == set(slow)
    for one in stats["identifiers"]:
        wanted = slow[one["bus"], one["id"]]
        shift = (kept[0].time - start) / 1e9
        for name in ("frames", "faults", "payload_changes"):
            assert one[name] == wanted[name], (name, one)
        for name in ("first", "last"):
            assert one[name] == pytest.approx(wanted[name] + shift), (name, one)
        for name in ("cycle_mean", "cycle_min", "cycle_max"):
            if wanted[name] is None:
                assert one[name] is None
            else:
                assert one[name] == pytest.approx(wanted[name], abs=1e-9), (name, one)


@settings(max_examples=15)
@given(rows(30), st.sampled_from([ask for ask, _ in ASKS]), st.floats(0, 1), st.integers(1, 2000))
def test_what_is_exported_is_what_is_printed(
    tmp_path_factory: pytest.TempPathFactory, command: Any, found: list[Row], ask: str, share: float, length: int
) -> None:
    start = int((found[-1].time - found[0].time) / 1e6 * share)
    folder = folder_of(tmp_path_factory, found, 0)
    span = ["--from", str(start / 1000), "--to", str((start + length) / 1000)]
    out = folder.parent / "part.jsonl"
    command("export", folder, out, "--ask", ask, *span)
    everything = command("frames", folder, "--ask", ask, "--json").splitlines()
    low, high = found[0].time + start * 1_000_000, found[0].time + (start + length) * 1_000_000
    wanted = [line for line in everything if low <= json.loads(line)["t"] < high]
    assert out.read_text().splitlines() == wanted


@pytest.mark.parametrize("ask, test", ASKS, ids=[ask or "everything" for ask, _ in ASKS])
def test_a_count_is_checked_to_the_frame(tmp_path: Path, command: Any, ask: str, test: Test) -> None:
    found = [
        Row(START + i * 1_000_000, (0x0A4, 0x220)[i % 2], bytes([0x43] * (i % 6)), bus=i % 3 == 0, faults=i % 5 == 0)
        for i in range(60)
    ]
    folder = tmp_path / "r.keel"
    recorded(folder, batch(found))
    count = sum(map(test, found))
    (tmp_path / "r.rules").write_text(f"count({ask or 'len<99'}) = {count}\n")
    said = command("check", folder, "--rules", tmp_path / "r.rules")
    assert said.startswith("passed") and f"{count} frame" in said
