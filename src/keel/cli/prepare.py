"""``keel prepare``: compile the fast parts now rather than at their first use."""

from __future__ import annotations

import tempfile
from pathlib import Path

from keel.cli import app, say


@app.command(epilog="Example:  keel prepare")
def prepare() -> None:
    """Compile the fast parts once, so that the first demo and the first import do not wait for it."""
    from keel.bench.headless import sail
    from keel.formats import pcap, textlog
    from keel.formats.reading import Account

    with tempfile.TemporaryDirectory() as folder:
        log, capture = Path(folder) / "x.log", Path(folder) / "x.pcap"
        sail(0.1, log, 1, [])
        header = bytes.fromhex("d4c3b2a1020004000000000000000000ffff0000e3000000")
        capture.write_bytes(header + bytes.fromhex("0000000000000000080000000800000000000123000000ff"))
        for read, path in ((textlog.read, log), (pcap.read, capture)):
            list(read(path, Account(), lambda *_: None))
    say("ready")
