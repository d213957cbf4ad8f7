"""What is remembered of a person's choices comes back; what cannot be is forgotten without a word too many."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from platformdirs import user_config_path

from keel.app.shared import asks
from keel.formats.layout import Layout, remember, remembered
from keel.model.settings import remember_setting, setting

ODD = ["", "nonsense", "[]", "7", "null", '"text"', '{"history": 7, "named": [1], "watch hides": {}}', "[" * 5000]


@given(st.dictionaries(st.text(max_size=8), st.lists(st.text(max_size=8), max_size=3), max_size=4))
def test_what_was_remembered_comes_back_beside_what_was_there(things: dict[str, list[str]]) -> None:
    for key, value in things.items():
        remember_setting("tried", key, value)
    for key, value in things.items():
        assert setting("tried", key, ["nothing"], list[str]) == value
        assert setting("tried", key, 7) == 7 and setting("others", key, "none") == "none"


@pytest.mark.parametrize("content", ODD)
def test_a_file_of_something_else_is_passed_over_and_written_anew(content: str) -> None:
    folder = user_config_path("keel")
    folder.mkdir(parents=True)
    for name in ("asks", "layouts", "views"):
        (folder / f"{name}.json").write_text(content)
    head = b"ms;line;ident;n;b0\n"
    assert asks.remembered() == [] and asks.user_asks() == {} and remembered(head) is None
    assert setting("views", "watch hides", frozenset[str](), frozenset[str]) == frozenset()
    asks.remember("fault")
    asks.keep_user_ask("faults", "fault")
    layout = Layout("semicolon", ("time", "bus", "id", "len", "byte"), header=True, unit="ms")
    remember(head, layout)
    assert asks.remembered() == ["fault"] and asks.user_asks() == {"faults": "fault"} and remembered(head) == layout


@pytest.mark.parametrize(
    "layout",
    [7, None, ["time"], {}, "columns=nothing-known", "separator=\x00", {"separator": "x", "columns": ["time"]}],
)
def test_a_layout_that_cannot_be_is_not_used(layout: object) -> None:
    from keel.formats.layout import fingerprint

    remember_setting("layouts", fingerprint(b"a;b\n"), layout)
    assert remembered(b"a;b\n") is None


def test_where_nothing_can_be_written_nothing_fails(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "file").write_text("no folder")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "file"))
    asks.remember("fault")
    asks.keep_user_ask("faults", "fault")
    remember(b"a;b\n", Layout("semicolon", ("time", "id")))
    remember_setting("views", "watch hides", ["jitter"])
    assert asks.remembered() == [] and asks.user_asks() == {} and setting("views", "watch hides", "none") == "none"


def test_asks_entered_before_are_newest_first_each_once_and_not_without_end() -> None:
    for i in range(asks.MOST_REMEMBERED + 20):
        asks.remember(f"len={i}")
    asks.remember("len=50")
    asks.remember("")
    kept = asks.remembered()
    assert len(kept) == asks.MOST_REMEMBERED and kept[:2] == ["len=50", f"len={asks.MOST_REMEMBERED + 19}"]
    assert len(set(kept)) == len(kept)
    assert json.loads((user_config_path("keel") / "asks.json").read_text())["history"] == kept
