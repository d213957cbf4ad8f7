"""Recordings that the views are tried on."""

from __future__ import annotations

import shutil
from pathlib import Path

import pytest

from keel.model.span import Mark
from keel.store.manifest import edit_manifest
from keel.store.recording import Recording
from tests.app.driving import plain_recording


@pytest.fixture
def plain(tmp_path: Path) -> Path:
    return plain_recording(tmp_path / "plain.keel")


@pytest.fixture
def sailed(voyage: Path, tmp_path: Path) -> Path:
    """The voyage with marks around the working of the ramp."""
    folder = tmp_path / "sailed.keel"
    shutil.copytree(voyage, folder)
    start = Recording(folder).snapshot().span.start
    with edit_manifest(folder) as manifest:
        manifest.name = "sailed"
        for number, second in enumerate((19.6, 24.4, 34.6, 38.4), 1):
            manifest.marks.append(Mark(number, start + int(second * 1e9)))
    return folder
