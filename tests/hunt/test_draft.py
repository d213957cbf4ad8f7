"""A draft says of every message what the traffic shows, and says it again the same."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from keel.hunt.columns import gather
from keel.hunt.draft import draft
from keel.hunt.traffic import Traffic
from keel.model.identity import Form
from keel.signals.dictionary import Dictionary, Message, merged
from keel.signals.loading import load_dictionary, save_dictionary
from keel.store.recording import Recording
from tests.making import find


@pytest.fixture(scope="module")
def drafted(voyage: Path) -> tuple[Traffic, Dictionary]:
    snapshot = Recording(voyage).snapshot()
    traffic = Traffic.of(gather(find(snapshot)))
    return traffic, draft(traffic, [b.name for b in snapshot.manifest.buses])


def message(dictionary: Dictionary, ident: int) -> Message:
    return next(m for m in dictionary.messages if m.ident == ident)


def test_every_message_has_its_cycle_and_its_fields(drafted: tuple[Traffic, Dictionary]) -> None:
    traffic, found = drafted
    assert len(found.messages) == len(traffic.columns)
    helm = message(found, 0x0A4)
    assert (helm.bus, helm.form, helm.size, helm.cycle_ms) == ("A", Form.BASE, 8, 10.0)
    roles = {s.role: s for s in helm.signals}
    assert roles["counter"].algorithm == "+1" and "CRC-8" in roles["checksum"].algorithm
    angle = helm.signal("value_0A4_16")
    assert angle is not None and angle.field.signed and angle.least is not None and angle.least < 0
    assert "frames" in angle.found and "bits move" in angle.found
    assert any("a copy of value_" in s.note for m in found.messages for s in m.signals)


def test_every_frame_of_the_recording_is_decoded(drafted: tuple[Traffic, Dictionary]) -> None:
    traffic, found = drafted
    for (key, column), said in zip(traffic.columns.items(), found.messages, strict=True):
        for signal in said.signals:
            rows = said.rows_of(signal, column.payloads)
            values = signal.values(column.payloads if rows is None else column.payloads[rows])
            assert len(values) and np.isfinite(values).all(), (key, signal.name)
            if signal.least is not None and signal.most is not None:
                assert signal.least <= values.min() and values.max() <= signal.most


def test_pages_come_with_their_selector(drafted: tuple[Traffic, Dictionary]) -> None:
    paged = [m for m in drafted[1].messages if any(s.pages for s in m.signals)]
    assert paged and all(m.selector is not None for m in paged)
    assert all("_m" in s.name for m in paged for s in m.signals if s.pages)


def test_it_reads_back_and_again_changes_nothing(drafted: tuple[Traffic, Dictionary], tmp_path: Path) -> None:
    file = tmp_path / "draft.toml"
    save_dictionary(drafted[1], file)
    read = load_dictionary(file)
    assert not read.problems and read.dictionary.messages == drafted[1].messages
    assert merged([read.dictionary, drafted[1]]).messages == drafted[1].messages


def test_names_are_each_message_s_own(drafted: tuple[Traffic, Dictionary]) -> None:
    for one in drafted[1].messages:
        names = [s.name for s in one.signals]
        assert len(names) == len(set(names)) and all(name.isidentifier() for name in names)


def test_a_draft_that_is_given_up_keeps_what_is_done(drafted: tuple[Traffic, Dictionary]) -> None:
    assert draft(drafted[0], ["A", "B"], lambda: True).messages == ()
