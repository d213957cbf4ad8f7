"""The dictionaries a recording uses: copied, in order, for one bus or all, told when a copy is damaged."""

from __future__ import annotations

from pathlib import Path

import pytest

from keel.errors import RecordingError
from keel.model.fields import BitField
from keel.model.identity import Form, pack_key
from keel.signals.dictionary import Dictionary, Message, Signal
from keel.signals.loading import load_dictionary, save_dictionary
from keel.store.dictionaries import use_dictionary
from keel.store.manifest import edit_manifest, load_manifest
from keel.store.recording import Recording
from tests.making import new_recording

KEY_A, KEY_B = pack_key(0, Form.BASE, 0x100), pack_key(1, Form.BASE, 0x100)


def written(folder: Path, name: str, signal: str) -> Path:
    message = Message("", Form.BASE, 0x100, name, (Signal(signal, BitField(0, 8)),))
    save_dictionary(Dictionary((message,)), folder / f"{name}.toml")
    return folder / f"{name}.toml"


def names(folder: Path, key: int) -> list[str]:
    message = Recording(folder).snapshot().book.message(key)
    return [f"{message.name}.{s.name}" for s in message.signals] if message else []


def test_a_copy_is_kept_and_the_file_may_go(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    path = written(tmp_path, "One", "x")
    entry = use_dictionary(folder, load_dictionary(path))
    path.unlink()
    assert names(folder, KEY_A) == names(folder, KEY_B) == ["One.x"]
    assert entry.source == str(path) and len(entry.digest) == 64 and (folder / entry.file).exists()


def test_the_first_has_precedence_and_the_recordings_own_comes_before_all(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    use_dictionary(folder, load_dictionary(written(tmp_path, "One", "x")))
    use_dictionary(folder, load_dictionary(written(tmp_path, "Two", "y")))
    assert names(folder, KEY_A) == ["One.x"]
    use_dictionary(folder, load_dictionary(written(tmp_path, "Two", "z")), first=True)
    assert [d.name for d in load_manifest(folder).dictionaries] == ["Two", "One"]
    assert names(folder, KEY_A) == ["Two.z"]
    with edit_manifest(folder) as manifest:
        own = Signal("mine", BitField(8, 8))
        manifest.dictionary = manifest.dictionary.with_signal("a", Form.BASE, 0x100, own)
    # Its message has no name of its own, so the dictionary's stands; its bits come first.
    assert names(folder, KEY_A) == ["Two.z", "Two.mine"] and names(folder, KEY_B) == ["Two.z"]


def test_one_for_a_bus_says_nothing_of_the_other(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    use_dictionary(folder, load_dictionary(written(tmp_path, "One", "x")), bus="b")
    use_dictionary(folder, load_dictionary(written(tmp_path, "Two", "y")), bus="a")
    assert (names(folder, KEY_A), names(folder, KEY_B)) == (["Two.y"], ["One.x"])
    with pytest.raises(RecordingError, match="has no bus “c”; it has a, b"):
        use_dictionary(folder, load_dictionary(tmp_path / "One.toml"), bus="c")


def test_a_recording_that_is_open_sees_a_new_dictionary(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    recording = Recording(folder)
    before = recording.snapshot().book
    assert before.message(KEY_A) is None
    use_dictionary(folder, load_dictionary(written(tmp_path, "One", "x")))
    recording.refresh()
    assert recording.snapshot().book.message(KEY_A) is not None
    book = recording.snapshot().book
    recording.refresh()
    # Nothing changed: it is the same book, and asks that were parsed with it stay good.
    assert recording.snapshot().book is book


@pytest.mark.parametrize("damage", ["missing", "cut", "other"])
def test_a_damaged_copy_is_told_and_costs_itself_alone(tmp_path: Path, damage: str) -> None:
    folder = new_recording(tmp_path / "r.keel")
    entry = use_dictionary(folder, load_dictionary(written(tmp_path, "One", "x")))
    use_dictionary(folder, load_dictionary(written(tmp_path, "Two", "y")))
    if damage == "missing":
        (folder / entry.file).unlink()
    else:
        (folder / entry.file).write_text("[{" if damage == "cut" else '[{"form": "base"}]')
    snapshot = Recording(folder).snapshot()
    assert any("dictionary One cannot be read" in problem for problem in snapshot.problems)
    assert names(folder, KEY_A) == ["Two.y"]


def test_recordings_of_the_first_version_keep_their_pages(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    text = (folder / "recording.json").read_text()
    old = (
        '"dictionary": [{"bus": "a", "form": "base", "ident": 256, "name": "M", "signals": [{"start": 0, "length": 8, '
    )
    old += '"order": "little", "signed": false, "name": "s", "scale": 1.0, "offset": 0.0, "unit": "", "texts": {}, '
    old += '"role": "value", "page": 3, "note": ""}]}]'
    (folder / "recording.json").write_text(text.replace('"dictionary": []', old))
    message = Recording(folder).snapshot().book.message(KEY_A)
    assert message is not None and message.signals[0].pages == ((3, 3),)
