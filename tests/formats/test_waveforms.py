"""Waveform files: dumps of value changes, text, WAV; whole, odd and hostile."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from keel.errors import InputError, UnknownFormat
from keel.formats import vcd_changes, wave_cells
from keel.formats.vcd import parse_vcd
from keel.formats.wav import parse_wav
from keel.formats.wave_taken import parse_taken, scaled
from keel.formats.wave_text import parse_wave_text
from keel.formats.waveforms import read_waveforms
from keel.model.waveform import Analog, Channel, Logic
from tests.lines.waves import vcd, wav


def dump(text: str, *bits: str) -> list[Channel]:
    return parse_vcd(np.frombuffer(text.encode(), np.uint8), bits_of=bits).channels


def logic(channel: Channel) -> tuple[int, int, list[int], tuple[tuple[int, int], ...]]:
    wave = channel.wave
    assert isinstance(wave, Logic)
    return wave.end, wave.first, wave.edges.tolist(), wave.unknown


GARDEN = """$date today $end $timescale 100 ns $end
$scope module garden $end $scope module north $end
$var wire 1 ! tx $end $var wire 1 " rx $end $var reg 8 # bus [7:0] $end $var event 1 e ping $end
$upscope $end $scope module south $end $var wire 1 % tx $end $var parameter 1 p size $end $upscope $end $upscope $end
$enddefinitions $end
#0 $dumpvars 1! x" b1010 # 0% $end
#10 0! $comment 1! 0! $end
#20 1!
1"
#25 b11 #
#30 $dumpoff x! x" bx # x% $end
#50 $dumpon 0! 1" b1 # 0% $end
#60 H! #70
"""


def test_channels_are_one_bit_nets_called_by_their_names_with_scopes_where_two_share_it() -> None:
    found = dump(GARDEN)
    assert [(one.name, one.number) for one in found] == [("garden.north.tx", 1), ("rx", 2), ("garden.south.tx", 3)]
    assert logic(found[0]) == (7000, 1, [1000, 2000, 5000, 6000], ((3000, 5000),))
    assert logic(found[1]) == (7000, 1, [], ((0, 2000), (3000, 5000)))


def test_what_is_unknown_makes_no_edge() -> None:
    wave = dump(GARDEN)[0].wave
    assert isinstance(wave, Logic)
    assert [(part.start, part.end, part.first, part.edges.tolist()) for part in wave.stretches()] == [
        (0, 3000, 1, [1000, 2000]),
        (5000, 7000, 0, [6000]),
    ]


def test_a_bit_of_a_vector_is_taken_by_hand() -> None:
    found = {one.name: logic(one) for one in dump(GARDEN, "bus[0]", "garden.north.bus[1]")}
    assert found["bus[0]"] == (7000, 0, [2500], ((3000, 5000),))
    assert found["bus[1]"] == (7000, 1, [5000], ((3000, 5000),))


@pytest.mark.parametrize(
    ("unit", "ticks", "ns"),
    [("1 s", 2, 2_000_000_000), ("10us", 3, 30_000), ("1 ps", 1_499, 1), ("100 fs", 15_000, 2), ("1 fs", 1_500_000, 2)],
)
def test_times_are_rounded_to_nanoseconds(unit: str, ticks: int, ns: int) -> None:
    text = f"$timescale {unit} $end $var wire 1 a line $end $enddefinitions $end #0 0a #{ticks} 1a #{4 * ticks}"
    assert logic(dump(text)[0])[2] == [ns]


def test_names_that_never_differ_are_one_channel_and_codes_of_any_length_are_known() -> None:
    text = (
        "$timescale 1ns $end $scope module a $end $var wire 1 longcode~1 x $end $upscope $end $scope module b $end "
        "$var wire 1 longcode~1 y $end $var wire 1 zz x $end $upscope $end $enddefinitions $end\n"
        "#0\n0longcode~1\n0zz\n#5\n1longcode~1\n1zz\n#9\n"
    )
    found = dump(text)
    assert len(found) == 1 and logic(found[0]) == (9, 0, [5], ())
    assert found[0].name == "a.x" and {"y", "b.x"} & set(found[0].others)


@pytest.mark.parametrize(
    "text",
    ["", "$timescale 1 ns $end", "$timescale 1 furlong $end $enddefinitions $end #0", "$enddefinitions $end #0",
     "$timescale 1ns $end $var reg 8 a x $end $enddefinitions $end #0 b1 a"],
)  # fmt: skip
def test_what_holds_no_channel_is_refused(text: str) -> None:
    with pytest.raises(InputError):
        dump(text)


@given(st.text(alphabet='01xzb#$end !"ab\n 9r.', max_size=200))
def test_any_body_is_read(body: str) -> None:
    head = '$timescale 1ns $end $var wire 1 ! a $end $var wire 1 " b $end $var wire 4 a v $end $enddefinitions $end\n'
    for channel in dump(head + body, "v[2]"):
        wave = channel.wave
        assert isinstance(wave, Logic) and (np.diff(wave.edges) > 0).all()
        assert wave.start <= wave.end and all(low < high for low, high in wave.unknown)


edges = st.lists(st.integers(1, 10**6), max_size=50).map(lambda steps: np.cumsum(np.array([0, *steps], np.int64))[1:])


@given(st.lists(st.tuples(edges, st.integers(0, 1)), min_size=1, max_size=4))
def test_what_is_written_is_read(lines: list[tuple[np.ndarray[tuple[int], np.dtype[np.int64]], int]]) -> None:
    end = max([int(one[-1]) if len(one) else 1 for one, _ in lines]) + 5
    waves = {f"line{n}": Logic(0, end, first, one) for n, (one, first) in enumerate(lines)}
    found = dump(vcd(**waves).decode())
    shown = {one.name: logic(one) for one in found}
    for name, wave in waves.items():
        assert shown.get(name, (end, wave.first, wave.edges.tolist(), ())) == (end, wave.first, wave.edges.tolist(), ())


@given(st.lists(st.sampled_from(["#5", "#3", "#40", "#123456789", "0!", "1!", 'x"', '1"', "b10 a", "$comment", "$end",
                                 "$dumpoff", "zq"]), max_size=60))  # fmt: skip
def test_a_dump_cut_in_pieces_says_what_it_says_in_whole(words: list[str]) -> None:
    body = "\n".join(words)
    head = '$timescale 1ns $end $var wire 1 ! a $end $var wire 1 " b $end $var wire 4 a v $end $enddefinitions $end\n'
    whole = [logic(channel) for channel in dump(head + body, "v[1]")]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(vcd_changes, "PIECE", 8)
        assert [logic(channel) for channel in dump(head + body, "v[1]")] == whole


# Text.


def analog(channel: Channel) -> Analog:
    assert isinstance(channel.wave, Analog)
    return channel.wave


@pytest.mark.parametrize(
    ("text", "name", "start", "step", "volts"),
    [
        ("time (s),CH1 (V)\n-1e-6,1.5\n0,2.5\n1e-6,3.5\n", "CH1", -1000, 1000.0, [1.5, 2.5, 3.5]),
        ("Time;Probe A\n[ms];[mV]\n0,0;1500,0\n0,5;2500,5\n1,0;0,0\n", "Probe A", 0, 500_000.0, [1.5, 2.5005, 0.0]),
        ("scope 7\nSample Interval,2,us\nbus\n0.1\n0.2\n0.3\n", "bus", 0, 2000.0, [0.1, 0.2, 0.3]),
        ("# rate: 1 MHz\nA\tB\n0.5\t1\n0.7\t2\n0.6\t3\n", "A", 0, 1000.0, [0.5, 0.7, 0.6]),
        ("t/us x\n0 1.25\n2 1.5\n4 1.75\n", "x", 0, 2000.0, [1.25, 1.5, 1.75]),
    ],
)
def test_text_of_instruments_is_read(text: str, name: str, start: int, step: float, volts: list[float]) -> None:
    if text.startswith("t/us"):
        text = text.replace("t/us", "t[us]")
    first = parse_wave_text(np.frombuffer(text.encode(), np.uint8))[0]
    wave = analog(first)
    assert (first.name, wave.start, round(wave.step, 3)) == (name, start, step)
    assert wave.volts().tolist() == pytest.approx(volts)


def test_nothing_but_0_and_1_is_logic() -> None:
    (found,) = parse_wave_text(np.frombuffer(b"t [us],d0\n0,0\n1,0\n2,1\n3,1\n4,0\n", np.uint8))
    assert logic(found) == (4000, 0, [2000, 4000], ())


@pytest.mark.parametrize("text", [b"", b"hello\nworld\n", b"a,b\n", b"1\n2\n3\n", b"time,x\n1,2\n"])
def test_text_without_a_waveform_is_refused(text: bytes) -> None:
    with pytest.raises(InputError):
        parse_wave_text(np.frombuffer(text, np.uint8))


@given(st.binary(max_size=300) | st.text(alphabet="0123456789.,;eE+- \n\tx", max_size=200).map(str.encode))
def test_any_bytes_are_a_waveform_or_refused(data: bytes) -> None:
    for parse in (parse_wave_text, parse_wav):
        try:
            found = parse(np.frombuffer(data, np.uint8))
        except InputError:
            continue
        for channel in found:
            wave = channel.wave
            assert wave.end >= wave.start
            assert isinstance(wave, Logic) or not np.isnan(wave.volts()).any()


numbers = st.floats(-1e6, 1e6).map(lambda x: float(f"{x:.9g}"))


@given(st.lists(st.tuples(numbers, numbers), min_size=2, max_size=40), st.sampled_from(";\t ,"), st.booleans())
def test_volts_that_are_written_are_read(rows: list[tuple[float, float]], separator: str, quoted: bool) -> None:
    mark = '"' if quoted else ""
    end = " \r\n" if len(rows) % 2 else "\n"
    body = end.join(separator.join(f"{mark}{value!r}{mark}" for value in row) for row in rows)
    text = f"interval 3 us\nA{separator}B\n{body}{end if len(rows) % 3 else ''}".encode()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(wave_cells, "PIECE", 50)
        found = parse_wave_text(np.frombuffer(text, np.uint8))
    if all(value in (0.0, 1.0) for row in rows for value in row):
        return
    for column, channel in enumerate(found):
        if isinstance(channel.wave, Analog):
            assert channel.wave.step == 3000.0
            assert channel.wave.samples.tolist() == [np.float32(row[column]) for row in rows]


def test_rows_that_hold_something_else_are_passed_over_and_counted() -> None:
    text = b"time (s),A (V)\n0,1.5\n1,2.5\n# a word\n2,OL\n3,4.5\n2.5,9\n4,5.5\n\n5,6.5,\n"
    (channel,) = parse_wave_text(np.frombuffer(text, np.uint8))
    assert channel.notes == (
        "2 rows hold something else than numbers: passed over",
        "1 samples without a later time were passed over",
        "time steps back at 3 s",
    )
    assert analog(channel).samples.tolist() == [1.5, 2.5, 3.5, 4.5, 5.5, 6.5]


def test_behind_a_step_back_in_time_nothing_is_known_till_it_is_later_again() -> None:
    rows = [(time, time % 2) for time in [*range(10), *range(4, 20)]]
    body = "".join(f"{time},{level}\n" for time, level in rows)
    (channel,) = parse_wave_text(np.frombuffer(f"time (s),A\n{body}".encode(), np.uint8))
    assert channel.notes == ("6 samples without a later time were passed over", "time steps back at 9 s")
    assert isinstance(channel.wave, Logic) and channel.wave.unknown == ((9 * 10**9, 10 * 10**9),)


def test_one_time_twice_is_no_step_back() -> None:
    text = b"time (s),A\n" + b"".join(b"%d,%d\n" % (n - (n > 12), n & 1) for n in range(20))
    (channel,) = parse_wave_text(np.frombuffer(text, np.uint8))
    assert isinstance(channel.wave, Logic) and not channel.wave.unknown


def test_without_times_what_cannot_be_read_is_as_before_and_moves_nothing() -> None:
    text = b"interval,1,ms\nA\n1.5\nOL\n3.5\n"
    (channel,) = parse_wave_text(np.frombuffer(text, np.uint8))
    assert analog(channel).samples.tolist() == [1.5, 1.5, 3.5] and len(channel.notes) == 1


# WAV.


@pytest.mark.parametrize(
    ("bits", "kind", "near"), [(8, 1, 0.01), (16, 1, 1e-4), (24, 1, 1e-6), (32, 1, 1e-6), (32, 3, 1e-7), (64, 3, 1e-7)]
)
def test_samples_of_all_sizes_are_volts(bits: int, kind: int, near: float) -> None:
    samples = np.column_stack([np.linspace(-0.9, 0.9, 50), np.linspace(0.5, -0.5, 50)])
    found = parse_wav(np.frombuffer(wav(samples, 48_000, bits, kind), np.uint8))
    assert [one.name for one in found] == ["1", "2"]
    for place, one in enumerate(found):
        assert np.abs(analog(one).volts() - samples[:, place]).max() <= near
        assert analog(one).start == 0 and analog(one).step == pytest.approx(1e9 / 48_000)


def test_what_is_no_wav_or_of_another_kind_is_refused() -> None:
    for data in (b"RIFF", b"RIFF\0\0\0\0WAVE", wav(np.zeros(4), 8000, 16, 7)):
        with pytest.raises(InputError):
            parse_wav(np.frombuffer(data, np.uint8))


def test_files_are_told_by_what_is_in_them(tmp_path: Path) -> None:
    line = Logic(0, 100, 0, np.array([10, 20], np.int64))
    for name, data, kind in (
        ("a.txt", vcd(d=line), "value change dump"),
        ("b.dat", wav(np.zeros(9), 8000), "WAV"),
        ("c.bin", b"t,v\n0,0.5\n1,0.7\n2,0.1\n", "volts as text"),
    ):
        (tmp_path / name).write_bytes(data)
        assert read_waveforms(tmp_path / name)[0] == kind
    (tmp_path / "d").write_bytes(b"\x00\x01nothing")
    with pytest.raises(UnknownFormat, match="no form of waveform"):
        read_waveforms(tmp_path / "d")
    with pytest.raises(InputError, match="cannot be read"):
        read_waveforms(tmp_path / "gone")


def taken(text: bytes, **said: object) -> list[Channel]:
    return scaled(parse_wave_text(np.frombuffer(text, np.uint8), taken=parse_taken(**said)), parse_taken(**said))  # type: ignore[arg-type]


def test_units_gain_and_offset_that_are_said_hold() -> None:
    text = b"Time,CH1,CH2 (V)\n0,10,1\n1,20,2\n2,30,4\n"
    one, two = taken(text, units=["ms", "CH1=mV"], gains=["CH2=10"], offsets=["CH1=-0.5"])
    assert analog(one).step == 1e6
    assert analog(one).volts() == pytest.approx([-0.49, -0.48, -0.47], abs=1e-6)
    assert analog(two).volts() == pytest.approx([10.0, 20.0, 40.0])
    assert one.notes == ("set by hand: offset -0.5 V",) and two.notes == ("set by hand: gain 10",)


def test_an_interval_is_said_where_a_text_has_no_times() -> None:
    text = b"CH1,CH2\n1.5,3\n2.5,1\n2.0,2\n"
    with pytest.raises(InputError, match="--interval"):
        taken(text)
    one, _ = taken(text, interval="12.5ns")
    assert analog(one).step == 12.5 and len(analog(one)) == 3


@pytest.mark.parametrize(
    "said",
    [
        {"units": ["furlongs"]}, {"gains": ["0"]}, {"gains": ["a lot"]}, {"offsets": ["CH1=nan"]},
        {"interval": "often"}, {"interval": "0ms"}, {"gains": ["CH9=2"]},
    ],
)  # fmt: skip
def test_what_is_no_unit_no_number_or_no_channel_is_refused(said: dict[str, object]) -> None:
    with pytest.raises(InputError):
        taken(b"Time (s),CH1\n0,1.5\n1,2.5\n", **said)


def test_gain_holds_for_sound_too(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    path.write_bytes(wav(np.array([[0.5], [-0.5]] * 4), 8_000))
    (plain_one,) = read_waveforms(path)[1]
    (loud,) = read_waveforms(path, taken=parse_taken(gains=["20"], offsets=["1"]))[1]
    assert analog(loud).volts() == pytest.approx(20 * analog(plain_one).volts() + 1, abs=1e-4)
