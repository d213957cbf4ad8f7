"""Really killing the recorder: what it had handed over is there."""

from __future__ import annotations

import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from keel.store.recording import Recording
from keel.store.verify import verify
from keel.store.writer import Writer
from tests.making import new_recording

# A recorder of numbered frames. It says on its output how many it has handed over, and seals often.
RECORDER = """
import sys
from pathlib import Path
import numpy as np
from keel.model.frames import batch_of
from keel.store import writer as w
w.SEAL_ROWS = 3000
writer = w.Writer(Path(sys.argv[1]))
n = 0
while True:
    numbers = np.arange(n, n + 100, dtype=np.uint64)
    payloads = numbers[:, None].view(np.uint8).reshape(100, 8)
    writer.append(batch_of(numbers.astype(np.int64) * 1000, numbers % 7, payloads))
    n += 100
    print(n, flush=True)
"""


@pytest.mark.soak
@pytest.mark.parametrize("seed", range(100, 160))
def test_kill_dash_nine_again_and_again(tmp_path: Path, seed: int) -> None:
    kill_and_look(tmp_path, seed)


@pytest.mark.parametrize("seed", range(6))
def test_kill_dash_nine_loses_nothing_that_was_handed_over(tmp_path: Path, seed: int) -> None:
    kill_and_look(tmp_path, seed)


def kill_and_look(tmp_path: Path, seed: int) -> None:
    folder = new_recording(tmp_path / "r.keel")
    process = subprocess.Popen([sys.executable, "-c", RECORDER, str(folder)], stdout=subprocess.PIPE)
    assert process.stdout is not None
    process.stdout.readline()
    time.sleep(random.Random(seed).uniform(0.0, 0.6))
    process.send_signal(signal.SIGKILL)
    process.wait()
    said = process.stdout.read().decode().split()
    handed_over = int(said[-1]) if said else 100
    snapshot = Recording(folder).snapshot()
    assert snapshot.frames >= handed_over
    assert not snapshot.problems and not verify(folder)
    batch = snapshot.rows(0, snapshot.frames)
    assert np.array_equal(batch.data.reshape(-1, 8).view(np.uint64)[:, 0], np.arange(snapshot.frames))
    # And the next recorder goes on where this one stopped.
    Writer(folder).close()
    assert Recording(folder).snapshot().frames == snapshot.frames


def test_a_killed_live_recording_opens_and_can_be_added_to(tmp_path: Path) -> None:
    folder = tmp_path / "live.keel"
    command = [sys.executable, "-m", "keel", "record", "--from", "bench", str(folder), "--speed", "20"]
    process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    reader = None
    while reader is None or reader.snapshot().frames < 5000:
        time.sleep(0.05)
        assert process.poll() is None
        if (folder / "recording.json").exists():
            reader = reader or Recording(folder)
            reader.refresh()
    seen = reader.snapshot().frames
    process.kill()
    process.wait()
    after = Recording(folder).snapshot()
    assert after.frames >= seen and not after.live and not after.problems
    again = [*command, "--seconds", "0.5"]
    subprocess.run(again, check=True, stderr=subprocess.DEVNULL)
    more = Recording(folder).snapshot()
    assert more.frames > after.frames
    assert np.array_equal(more.rows(0, seen).time, after.rows(0, seen).time)
