"""A disk that fills up, made with a limit on the size of files: what was handed over stays, the rest is told."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np

from keel.store.recording import Recording
from keel.store.verify import verify
from keel.store.writer import Writer
from tests.making import new_recording

# Appends numbered frames until the disk is full, then makes room and goes on.
FILLING = """
import json, resource, sys
from pathlib import Path
import numpy as np
from keel.errors import RecordingError
from keel.model.frames import batch_of
from keel.store import writer as w
if len(sys.argv) > 3:
    w.SEAL_ROWS = int(sys.argv[3])
writer = w.Writer(Path(sys.argv[1]))
hard = resource.getrlimit(resource.RLIMIT_FSIZE)[1]
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[2]), hard))
n, refused, why = 0, 0, ""

def add(count):
    global n, refused, why
    numbers = np.arange(n, n + count, dtype=np.uint64)
    try:
        writer.append(batch_of(numbers.astype(np.int64), numbers % 3, numbers[:, None].view(np.uint8).reshape(-1, 8)))
        n += count
    except RecordingError as error:
        refused, why = refused + 1, str(error)

for _ in range(60):
    add(100)
full = n
trouble = writer.trouble
resource.setrlimit(resource.RLIMIT_FSIZE, (resource.RLIM_INFINITY, hard))
for _ in range(20):
    add(100)
writer.close()
print(json.dumps({"full": full, "n": n, "refused": refused, "why": why, "trouble": trouble}))
"""


def fill(folder: Path, limit: int, *more: str) -> dict[str, object]:
    done = subprocess.run(
        [sys.executable, "-c", FILLING, str(folder), str(limit), *more], capture_output=True, text=True, check=True
    )
    said: dict[str, object] = json.loads(done.stdout)
    return said


def numbers_in(folder: Path) -> list[int]:
    snapshot = Recording(folder).snapshot()
    assert not snapshot.problems and not verify(folder)
    found: list[int] = snapshot.rows(0, snapshot.frames).data.reshape(-1, 8).view(np.uint64)[:, 0].tolist()
    return found


def test_a_full_disk_refuses_but_keeps_what_was_handed_over(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    said = fill(folder, 78_000)
    # A block has about 3.3 kB: some 23 fit, then it is refused until there is room.
    assert 20 * 100 <= int(str(said["full"])) < 25 * 100
    assert int(str(said["refused"])) > 30 and "cannot be written" in str(said["why"])
    assert numbers_in(folder) == list(range(int(str(said["n"]))))


def test_what_cannot_be_sealed_stays_in_the_journal_until_there_is_room(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    # Journals of 1000 rows fit in 36 kB; segments of so many, with their index, do not.
    said = fill(folder, 36_000, "1000")
    assert int(str(said["refused"])) == 0
    assert "cannot be sealed" in str(said["trouble"])
    assert numbers_in(folder) == list(range(8000))
    assert len(Recording(folder).manifest.segments) == 8
    Writer(folder).close()


def test_an_index_that_did_not_fit_leaves_no_half_segment(tmp_path: Path) -> None:
    folder = new_recording(tmp_path / "r.keel")
    fill(folder, 36_000, "1000")
    assert sorted(p.suffix for p in (folder / "segments").iterdir()) == [".arrow"] * 8 + [".index"] * 8
