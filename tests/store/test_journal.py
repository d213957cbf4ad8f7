"""The journal: what is written is read, whatever happens to the file."""

from __future__ import annotations

import tempfile
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from keel.model.frames import concat
from keel.store.journal import HEADER, JournalReader, decode_body, encode_block
from tests.making import START, Row, batch, rows, same_frames


@given(rows())
def test_a_block_holds_its_batch(found: list[Row]) -> None:
    whole = batch(found)
    assert same_frames(decode_body(encode_block(whole)[HEADER.size :]), whole)


def test_blocks_are_read_as_they_come(tmp_path: Path) -> None:
    path = tmp_path / "1.rows"
    first, second = batch([Row(START, 1, b"one")]), batch([Row(START + 1, 2, b"two")])
    path.write_bytes(encode_block(first))
    reader = JournalReader(path)
    assert same_frames(concat(reader.read_new()), first)
    assert reader.read_new() == []
    with path.open("ab") as file:
        file.write(encode_block(second))
    assert same_frames(concat(reader.read_new()), second)


@given(st.data())
def test_a_cut_block_is_left_until_it_is_whole(data: st.DataObject) -> None:
    blocks = encode_block(batch([Row(START, 1, b"one")])) + encode_block(batch([Row(START, 2, b"two")]))
    first = len(encode_block(batch([Row(START, 1, b"one")])))
    cut = data.draw(st.integers(0, len(blocks)))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "1.rows"
        path.write_bytes(blocks[:cut])
        reader = JournalReader(path)
        before = len(reader.read_new())
        assert before == (cut >= first) + (cut == len(blocks))
        path.write_bytes(blocks)
        assert before + len(reader.read_new()) == 2
        assert reader.damaged == 0


def test_a_damaged_block_is_passed_over_and_counted(tmp_path: Path) -> None:
    path = tmp_path / "1.rows"
    good = [encode_block(batch([Row(START + i, i, bytes([i]) * 8)])) for i in range(3)]
    broken = bytearray(good[1])
    broken[HEADER.size + 6] ^= 0xFF
    path.write_bytes(good[0] + bytes(broken) + good[2])
    reader = JournalReader(path)
    found = concat(reader.read_new())
    assert found.ident.tolist() == [0, 2]
    assert reader.damaged == len(broken)


@given(st.binary(max_size=400))
def test_no_bytes_crash_the_reader(noise: bytes) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "1.rows"
        block = encode_block(batch([Row(START, 7, b"ok")]))
        path.write_bytes(noise + block)
        found = JournalReader(path).read_new()
        assert any(7 in b.ident for b in found) or b"KEELROWS" in noise


def test_a_removed_journal_is_gone_but_an_open_one_reads_on(tmp_path: Path) -> None:
    missing = JournalReader(tmp_path / "none.rows")
    assert missing.read_new() == [] and missing.gone
    path = tmp_path / "1.rows"
    path.write_bytes(encode_block(batch([Row(START, 1)])))
    reader = JournalReader(path)
    with path.open("ab") as file:
        assert len(reader.read_new()) == 1
        path.unlink()
        file.write(encode_block(batch([Row(START, 2)])))
    assert [b.ident[0] for b in reader.read_new()] == [2]
    reader.close()
