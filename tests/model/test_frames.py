"""Batches of frames, identifiers, spans, and text made harmless."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from keel.media.every import format_ident, key_words
from keel.model.bus import wire_ns
from keel.model.faults import FAULT_BY_WORD, Fault, fault_words
from keel.model.frames import concat, empty_batch
from keel.model.identity import IDENT_MASK, Form, pack_key, unpack_key
from keel.model.safe_text import ascii_of, csv_cell, plain
from keel.model.span import Mark, Span, around, moved, pair_up
from tests.making import BUSES, START, Row, batch, rows, same_frames


@given(rows(), st.data())
def test_slices_taken_apart_and_joined_are_the_batch(found: list[Row], data: st.DataObject) -> None:
    whole = batch(found)
    cut = data.draw(st.integers(0, len(found)))
    assert same_frames(concat([whole.slice(0, cut), whole.slice(cut, len(whole))]), whole)


@given(rows(), st.data())
def test_take_picks_rows_in_the_order_asked(found: list[Row], data: st.DataObject) -> None:
    picks = data.draw(st.lists(st.integers(0, len(found) - 1), max_size=20))
    taken = batch(found).take(np.array(picks, np.int64))
    assert [taken.payload(i) for i in range(len(taken))] == [found[p].payload for p in picks]
    assert taken.time.tolist() == [found[p].time for p in picks]


@given(rows(), st.integers(0, 9), st.integers(1, 9))
def test_matrix_and_bytes_at_fill_what_is_missing(found: list[Row], index: int, width: int) -> None:
    whole = batch(found)
    matrix = whole.matrix(0, len(whole), width)
    assert [bytes(row) for row in matrix] == [r.payload[:width].ljust(width, b"\0") for r in found]
    values, present = whole.bytes_at(index)
    assert present.tolist() == [index < len(r.payload) for r in found]
    assert [int(v) for v, p in zip(values, present, strict=True) if p] == [
        r.payload[index] for r in found if index < len(r.payload)
    ]


def test_an_empty_batch_joins_without_trace() -> None:
    one = batch([Row(START, 1, b"ab")])
    assert len(concat([])) == 0
    assert same_frames(concat([empty_batch(), one, empty_batch()]), one)


def test_time_on_the_wire_uses_both_bit_rates() -> None:
    one = batch([Row(START, 1, b"ab")])
    one.bits[0], one.fast_bits[0] = 100, 40
    # 100 bits at 500 kbit/s and 40 at 2 Mbit/s.
    assert wire_ns(one.bus, one.bits, one.fast_bits, BUSES).tolist() == [200_000 + 20_000]


@given(st.integers(0, 255), st.sampled_from(list(Form)), st.integers(0, IDENT_MASK))
def test_keys_keep_all_three_parts(bus: int, form: Form, ident: int) -> None:
    assert unpack_key(pack_key(bus, form, ident)) == (bus, form, ident)


def test_identifiers_are_written_as_the_trade_writes_them() -> None:
    assert format_ident(Form.BASE, 0xA4) == "0A4"
    assert format_ident(Form.EXTENDED, 0xA4) == "000000A4"
    assert key_words(pack_key(1, Form.EXTENDED, 0x18FECA17)) == "18FECA17"
    assert format_ident(Form.NONE, 0) == "—"


def test_keys_of_columns_agree_with_single_ones() -> None:
    found = [Row(START, 0x1A0), Row(START, 0x1A0, form=Form.EXTENDED, bus=1)]
    assert batch(found).keys().tolist() == [pack_key(0, Form.BASE, 0x1A0), pack_key(1, Form.EXTENDED, 0x1A0)]


def test_every_fault_has_a_word_and_a_title() -> None:
    assert all(fault.title for fault in Fault)
    assert fault_words(Fault.CRC | Fault.BUS_OFF) == ["crc", "bus-off"]
    assert FAULT_BY_WORD["ack"] is Fault.ACK


def test_marks_pair_up_in_order_of_time() -> None:
    marks = [Mark(2, 20), Mark(1, 10), Mark(3, 50), Mark(4, 55), Mark(5, 90)]
    assert pair_up(marks) == [Span(10, 20), Span(50, 55)]
    assert around([Mark(1, 10**10)])[0] == Span(10**10 - 5 * 10**8, 10**10 + 2 * 10**9)


@given(st.integers(0, 1000), st.integers(1, 1000), st.sampled_from(["earlier", "later", "in", "out"]))
def test_a_moved_lens_stays_inside_the_recording(start: int, length: int, change: str) -> None:
    whole = Span(0, 1_000_000)
    lens = Span(start * 100, start * 100 + length * 100).clipped(whole)
    new = moved(lens, change, whole)
    assert new is None or (whole.start <= new.start < new.end <= whole.end)


def test_text_from_outside_loses_its_teeth() -> None:
    assert plain("\x1b[31mred\x1b[0m\r\n") == "·[31mred·[0m··"
    assert plain("zero\u200bwidth\u202eturned") == "zero·width·turned"
    assert plain("x" * 300, 10) == "x" * 9 + "…"
    assert plain("Fähre ≈ [bold]") == "Fähre ≈ [bold]"
    assert ascii_of(b"A\x1b\xff~") == "A··~"
    assert csv_cell("=1+1") == "'=1+1"
    assert csv_cell("plain") == "plain"


@given(st.text())
def test_plain_text_holds_nothing_a_terminal_obeys(text: str) -> None:
    assert all(c.isprintable() or not c.isascii() for c in plain(text))
    assert not any(ord(c) < 32 or 127 <= ord(c) < 160 for c in plain(text))
