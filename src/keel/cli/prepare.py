"""``keel prepare``: compile the fast parts now rather than at their first use."""

from __future__ import annotations

import tempfile
from pathlib import Path

from keel.cli import app, say


@app.command(epilog="Example:  keel prepare")
def prepare() -> None:
    """Compile the fast parts once, so that the first demo and the first import do not wait for it."""
    from keel.app.desk.warm_up import warm_up
    from keel.bench.headless import sail
    from keel.formats.exporting import Setting, open_writer
    from keel.formats.importing import import_files
    from keel.formats.registry import format_named
    from keel.hunt.once import hunt_once
    from keel.measure.courses import courses_once
    from keel.measure.flips import flips_by_key
    from keel.measure.peaks import PeakFinder
    from keel.model.bus import Bus
    from keel.opened import Opened

    warm_up()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        sail(0.1, folder / "x.log", 1, [])
        header = bytes.fromhex("d4c3b2a1020004000000000000000000ffff0000e3000000")
        record = bytes.fromhex("00b95569000000000800000008000000000001230000000f")
        (folder / "x.pcap").write_bytes(header + record)
        (folder / "x.csv").write_text("time,id,data\n1767225600.5,1A0,00\n1767225600.6,1A0,01\n")
        import_files([folder / "x.log", folder / "x.pcap", folder / "x.csv"], folder / "x.keel")
        # An advertising PDU of six bytes, and a line of text.
        packet = bytes.fromhex("d6be898e0006010203040506000000")
        record = bytes(8) + len(packet).to_bytes(4, "little") * 2 + packet
        (folder / "ble.pcap").write_bytes(header[:20] + bytes.fromhex("fb000000") + record)
        import_files([folder / "ble.pcap"], folder / "ble.keel")
        (folder / "serial.txt").write_text("1.5 a\n")
        import_files([folder / "serial.txt"], folder / "serial.keel", read_as=format_named("serial", None))
        frames = Opened(folder / "x.keel").frames('bytes:"?? 00"')
        hunt_once(Opened(folder / "x.keel").frames().matches)
        courses_once(Opened(folder / "x.keel").frames().matches)
        flips_by_key(Opened(folder / "x.keel").frames().matches)
        PeakFinder().find(frames.matches)
        writer = open_writer(folder / "x.pcapng", "pcapng", Setting([Bus("a"), Bus("b"), Bus("c")], 0, {}, [], {}))
        for batch in frames.batches():
            writer.write(batch, frames.numbers)
        writer.close()
        import_files([folder / "x.pcapng"], folder / "y.keel")
    _lines()
    say("ready")


def _lines() -> None:
    """What reads waveforms and adapters."""
    import numpy as np

    from keel.formats.adapter_lines import parse_lines
    from keel.formats.vcd import parse_vcd
    from keel.formats.wave_text import parse_wave_text
    from keel.lines.code import Asked
    from keel.lines.codes import EVERY
    from keel.model.waveform import Analog, Channel
    from keel.probe.candidates import Wanted
    from keel.probe.channels import probed
    from keel.probe.decoding import decode_channels

    parse_lines(b"t1230\r")
    # An edge each two microseconds, as a dump of one line and of two, as text, and as sound of one channel and of two.
    turns = "".join(f"#{2 * n} {n % 2}a {n % 2}b " for n in range(40))
    head = "$timescale 1 us $end $var wire 1 a x $end"
    dumps = [f"{head} {more} $enddefinitions $end {turns}" for more in ("", "$var wire 1 b y $end")]
    square = np.tile(np.repeat(np.array([0, 1], np.float32), 4), 20)
    text = "interval 500 ns\nv (V)\n" + "".join(f"{volts + n / 1000}\n" for n, volts in enumerate(square.tolist()))
    timed = "time,v\n" + "".join(f"{n * 5e-7:.7f},{volts + n / 1000}\n" for n, volts in enumerate(square.tolist()))
    sounds = np.repeat(square[:, None] * 9_000, 2, axis=1).astype(np.int16)
    several = [parse_vcd(np.frombuffer(dump.encode(), np.uint8)).channels for dump in dumps]
    several += [parse_wave_text(np.frombuffer(words.encode(), np.uint8)) for words in (text, timed)]
    several += [[Channel("v", 1, Analog(0, 500.0, one))] for one in (square, sounds[:, 0], sounds[:, 0].copy())]
    for channels in several:
        decode_channels([probed(one) for one in channels], [Wanted(word) for word in EVERY], Asked())
