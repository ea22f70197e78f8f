"""Broadcast WAV: written by us, read by others; and nothing half-written, nothing guessed."""

import struct
import subprocess
import sys
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from vesk.core.errors import MediaError
from vesk.media import ixml, probe, wave
from vesk.media.probe import read_facts
from vesk.media.sound import SoundReader
from vesk.media.wave import Bext, write_wave
from vesk.media.wave_copy import copy_wave

RATE = 48_000


def noise(count: int, channels: int) -> np.ndarray:
    whole = np.random.default_rng(3).integers(-(1 << 23), 1 << 23, (count, channels))
    return (whole / float(1 << 23)).astype(np.float32)


@pytest.mark.parametrize("channels", [1, 2, 5])
def test_24_bits_come_back_exactly(tmp_path, channels):
    sound = noise(1001, channels)
    path = tmp_path / "a.wav"
    wave.write_wave(path, iter([sound[:400], sound[400:]]), sample_rate=RATE, channels=channels, bext=Bext())
    back, rate = soundfile.read(path, dtype="float32", always_2d=True)
    assert rate == RATE
    assert np.array_equal(back, sound)
    header = wave.read_header(path)
    assert (header.samples, header.channels, header.bits) == (1001, channels, 24)
    assert not header.truncated


def test_bext_stands_where_the_standard_puts_it(tmp_path):
    path = tmp_path / "a.wav"
    reference = 1_729_728_000 * 3  # beyond 32 bits
    made = Bext("a take", "Vesk", "ref", "2027-03-18", "10:00:00", reference, "A=PCM\r\n")
    wave.write_wave(path, iter([noise(10, 1)]), sample_rate=RATE, channels=1, bext=made, ixml="<BWFXML/>")
    data = path.read_bytes()
    at = data.index(b"bext") + 8
    # EBU Tech 3285: time reference low and high follow 256 + 32 + 32 + 10 + 8 bytes of text.
    low, high = struct.unpack("<II", data[at + 338 : at + 346])
    assert low + (high << 32) == reference
    assert data[at : at + 6] == b"a take"
    assert data[at + 320 : at + 330] == b"2027-03-18"
    header = wave.read_header(path)
    assert header.bext.time_reference == reference
    assert header.bext.history == "A=PCM"
    assert header.ixml == "<BWFXML/>"
    with av.open(str(path)) as other:  # somebody else's reader agrees
        assert int(other.metadata["time_reference"]) == reference


def test_ixml_carries_what_the_next_person_needs():
    info = ixml.IXml("31A", "2", "SR06", "horn & <bell>", "The Lantern Ferry", True, ("mix", "lav Ines"), None, True)
    text, own = (
        ixml.build(info, sample_rate=RATE, time_reference=5),
        {"timestamp": 5, "timestamp_rate": RATE, "drop": False},
    )
    assert ixml.parse(text) == ixml.IXml(**{**{f: getattr(info, f) for f in info.__slots__}, **own})
    speed = "<SPEED><TIMECODE_RATE>24000/1001</TIMECODE_RATE><TIMECODE_FLAG>DF</TIMECODE_FLAG></SPEED>"
    read = ixml.parse(f"<BWFXML>{speed}</BWFXML>")
    assert (read.timecode_rate, read.drop) == (Fraction(24000, 1001), True)
    assert ixml.parse("no xml") is None
    assert ixml.parse('<!DOCTYPE a [<!ENTITY b "c">]><BWFXML/>') is None


def test_large_files_become_rf64(tmp_path, monkeypatch):
    """The 4 GiB limit, moved down so that a test can cross it."""
    monkeypatch.setattr(wave, "_LIMIT", 2000)
    path = tmp_path / "a.wav"
    sound = noise(1000, 1)
    with pytest.raises(struct.error):
        struct.pack("<I", 1 << 32)
    wave.write_wave(path, iter([sound]), sample_rate=RATE, channels=1)
    data = path.read_bytes()
    assert data[:4] == b"RF64"
    assert data[12:16] == b"ds64"
    assert struct.unpack("<QQQ", data[20:44])[1:] == (3000, 1000)


def test_a_full_disk_leaves_nothing_half_written(tmp_path):
    """In a process that may write no more than 100 kB to a file, as a full disk would allow."""
    script = f"""
import resource, signal, sys
from pathlib import Path
import numpy as np
from vesk.core.errors import StorageError
from vesk.media.wave import write_wave
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (100_000, 100_000))
try:
    silence = np.zeros((48000, 2), np.float32)
    write_wave(Path({str(tmp_path / "full.wav")!r}), iter([silence]), sample_rate=48000, channels=2)
except StorageError as error:
    print(error)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert "full.wav: Vesk could not write there" in done.stdout
    assert "free space" in done.stdout
    assert list(tmp_path.iterdir()) == []


def test_a_file_cut_short_is_used_up_to_there_and_says_so(tmp_path):
    whole, cut = tmp_path / "whole.wav", tmp_path / "cut.wav"
    wave.write_wave(whole, iter([noise(5000, 2)]), sample_rate=RATE, channels=2, bext=Bext())
    cut.write_bytes(whole.read_bytes()[:-12_000])
    facts = probe.read_facts(cut)
    assert facts.samples == 3000
    assert any("cut short" in remark for remark in facts.remarks)


@pytest.mark.parametrize(
    ("name", "data", "reason"),
    [
        ("empty.wav", b"", "empty"),
        ("foreign.wav", b"hello, this is a letter and no sound at all", "cannot be read"),
        ("letter.doc", b"hello", "neither a movie nor a sound"),
        ("cut.mov", b"\0\0\0\x14ftypqt  \0\0\0\0qt  ", "cannot be read"),
        ("head.wav", b"RIFF\0\0\0\0WAVE", "names no sound"),
    ],
)
def test_bad_files_get_one_sentence_that_names_them(tmp_path, name, data, reason):
    path = tmp_path / name
    path.write_bytes(data)
    with pytest.raises(MediaError, match=reason) as caught:
        probe.read_facts(path)
    assert str(caught.value).startswith(str(path))
    with pytest.raises(MediaError, match="not there any more"):
        probe.read_facts(tmp_path / "gone.wav")


@settings(max_examples=150, deadline=None)
@given(st.binary(max_size=400))
def test_no_header_breaks_the_reader(tmp_path_factory, data):
    path = Path(tmp_path_factory.getbasetemp()) / "fuzz.wav"
    path.write_bytes(b"RIFF\xff\xff\xff\xffWAVE" + data)
    try:
        header = wave.read_header(path)
    except MediaError:
        return
    assert header.samples >= 0
    assert header.channels > 0


@pytest.mark.parametrize("bits", [8, 16, 24])
def test_a_recording_that_was_never_closed_is_read_from_where_its_sound_begins(tmp_path, bits):
    """A crash while recording: sizes of nothing in the header, and the samples lie there all the same."""
    path = tmp_path / "crashed.wav"
    rng = np.random.default_rng(bits)
    sound = (rng.integers(-30_000, 30_000, (4_001, 2)) / 32768).astype(np.float32)
    if bits == 8:
        soundfile.write(str(path), sound, 48_000, subtype="PCM_U8")
    else:
        write_wave(path, iter([sound]), sample_rate=48_000, channels=2, bext=Bext(time_reference=7), bits=bits)
    near = 1 / 127 if bits == 8 else 1e-6
    data = bytearray(path.read_bytes())
    at = data.index(b"data")
    data[at + 4 : at + 8] = data[4:8] = b"\0\0\0\0"
    path.write_bytes(data)
    facts = read_facts(path)
    assert (facts.samples, facts.time_reference) == (4_001, None if bits == 8 else 7)
    assert any("never closed" in remark for remark in facts.remarks)
    with SoundReader(path) as reader:
        assert reader.frames == 4_001
        np.testing.assert_allclose(reader.read(0, 4_001), sound, atol=near)
        np.testing.assert_allclose(reader.read(-2, 5)[2:], sound[:3], atol=near)


@pytest.mark.parametrize("channels", [1, 2, 3, 9])
def test_samples_of_three_bytes_are_to_the_bit_what_another_reader_says(tmp_path, channels):
    path, sound = tmp_path / "a.wav", noise(40_003, channels)
    write_wave(path, iter([sound]), sample_rate=48_000, channels=channels)
    with soundfile.SoundFile(str(path)) as other, SoundReader(path) as reader:
        for start, count in ((0, 1), (0, 40_003), (777, 36_001), (40_002, 1)):
            other.seek(start)
            np.testing.assert_array_equal(reader.read(start, count), other.read(count, "float32", always_2d=True))
        path.write_bytes(path.read_bytes()[:-1_000])
        with pytest.raises(MediaError, match="its sound ends at sample"):
            reader.read(0, 40_003)


def test_sound_that_its_header_cannot_count_is_read_to_its_end(tmp_path):
    """A recorder that goes on past 4 GiB in a plain file: its size begins again from zero."""
    path = tmp_path / "long.wav"
    wave.write_wave(path, iter([np.zeros((500, 2), np.float32)]), sample_rate=96_000, channels=2)
    frames = (1 << 32) // 6 + 70_001
    with path.open("r+b") as file:
        at = file.read().index(b"data")
        file.seek(at + 4)
        file.write(struct.pack("<I", frames * 6 % (1 << 32)))
        file.seek(at + 8 + (frames - 1) * 6)
        file.write(b"\0\0\x20\0\0\x40")
    facts = read_facts(path)
    assert facts.samples == frames
    assert any("longer than its header can say" in remark for remark in facts.remarks)
    with SoundReader(path) as reader:
        np.testing.assert_array_equal(reader.read(frames - 2, 2), [[0, 0], [0.25, 0.5]])


def test_the_younger_form_of_a_broadcast_wav_is_read_and_copied(tmp_path):
    path, sound = tmp_path / "a.wav", np.linspace(-0.5, 0.5, 1_000, dtype=np.float32)[:, None]
    wave.write_wave(path, iter([sound]), sample_rate=48_000, channels=1, bext=Bext(time_reference=99))
    data = bytearray(path.read_bytes())
    size = 3 * len(sound)
    data[:4], data[12:16] = b"BW64", b"ds64"
    data[20:44] = struct.pack("<QQQ", len(data) - 8, size, len(sound))
    at = data.index(b"data")
    data[at + 4 : at + 8] = b"\xff" * 4
    path.write_bytes(data)
    copy_wave(path, tmp_path / "b.wav", time_reference=123)
    for own, reference in ((path, 99), (tmp_path / "b.wav", 123)):
        facts = read_facts(own)
        assert (facts.samples, facts.time_reference, facts.remarks[1:]) == (1_000, reference, ())
        with SoundReader(own) as reader:
            np.testing.assert_allclose(reader.read(0, 1_000), sound, atol=1e-6)


@pytest.mark.parametrize(
    ("bext", "stamp", "rate", "samples", "said"),
    [
        (48_000, 48_000, 48_000, 48_000, ""),
        (96_000, 96_000, 96_000, 48_000, "counted in samples of 96000 Hz"),  # made of a file of another rate
        (48_000, 96_000, 96_000, 48_000, ""),
        (0, 96_000, 48_000, 96_000, "begins at zero"),
        (None, 96_000, None, 96_000, ""),
        (None, 0, 48_000, None, ""),
        (48_000, 144_000, 48_000, 48_000, "+2.000 s from what its header says"),
    ],
)
def test_a_recording_begins_when_both_chunks_together_say(tmp_path, bext, stamp, rate, samples, said):
    hz = f"<TIMESTAMP_SAMPLE_RATE>{rate}</TIMESTAMP_SAMPLE_RATE>" if rate else ""
    text = (
        f"<BWFXML><SPEED><TIMECODE_RATE>25/1</TIMECODE_RATE>{hz}"
        f"<TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO>{stamp}</TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO></SPEED>"
        f"<SYNC_POINT_LIST><SYNC_POINT><SYNC_POINT_TYPE>ABSOLUTE</SYNC_POINT_TYPE><SYNC_POINT_LOW>{stamp + 500}"
        "</SYNC_POINT_LOW></SYNC_POINT></SYNC_POINT_LIST></BWFXML>"
    )
    path, sound = tmp_path / "a.wav", np.zeros((1_000, 1), np.float32)
    own = None if bext is None else Bext(time_reference=bext)
    wave.write_wave(path, iter([sound]), sample_rate=48_000, channels=1, bext=own, ixml=text)
    facts = read_facts(path)
    assert facts.time_reference == samples
    assert said in "; ".join(facts.remarks) if said else not facts.remarks
    if bext and rate == 96_000 and bext == stamp:
        assert [one.at for one in facts.markers] == [Fraction(250, 48_000)]
        copy_wave(path, tmp_path / "b.wav", time_reference=7)
        assert (read_facts(tmp_path / "b.wav").time_reference, read_facts(tmp_path / "b.wav").remarks) == (7, ())


def test_text_of_an_older_machine_and_of_two_bytes_a_letter_is_read(tmp_path):
    path, sound = tmp_path / "a.wav", np.zeros((10, 1), np.float32)
    text = '<?xml version="1.0" encoding="UTF-16"?><BWFXML><SCENE>Fähre</SCENE></BWFXML>'
    wave.write_wave(path, iter([sound]), sample_rate=48_000, channels=1, bext=Bext(originator="Fahre"), ixml="x" * 200)
    coded = text.encode("utf-16").ljust(200, b"\0")
    path.write_bytes(path.read_bytes().replace(b"Fahre", b"F\xe4hre").replace(b"x" * 200, coded))
    facts = read_facts(path)
    assert (facts.scene, facts.originator) == ("Fähre", "Fähre")


def test_a_chunk_without_its_pad_byte_hides_nothing(tmp_path):
    path = tmp_path / "unpadded.wav"
    sound = np.linspace(-0.5, 0.5, 1_000, dtype=np.float32)[:, None]
    write_wave(path, iter([sound]), sample_rate=48_000, channels=1, ixml="<BWFXML><SCENE>31</SCENE></BWFXML>")
    data = path.read_bytes()
    at = data.index(b"iXML")
    text = b"<BWFXML><SCENE>31A</SCENE></BWFXML> "  # odd, and nothing after it
    text = text if len(text) % 2 else text + b" "
    stop = data.index(b"data")
    path.write_bytes(data[:at] + b"iXML" + len(text).to_bytes(4, "little") + text + data[stop:])
    facts = read_facts(path)
    assert (facts.samples, facts.scene) == (1_000, "31A")
    with SoundReader(path) as reader:
        np.testing.assert_allclose(reader.read(0, 1_000), sound, atol=1e-6)


def test_a_sound_that_is_truly_empty_is_told(tmp_path):
    path = tmp_path / "empty.wav"
    write_wave(path, iter([]), sample_rate=48_000, channels=1)
    path.write_bytes(path.read_bytes() + b"LIST" + (4).to_bytes(4, "little") + b"INFO")
    with pytest.raises(MediaError, match="no sound samples"):
        read_facts(path)


def test_markers_are_read_from_cue_with_labels_and_from_ixml_and_lie_where_they_were_put(tmp_path):
    rate = 48_000
    listed = "".join(
        f"<SYNC_POINT><SYNC_POINT_TYPE>{kind}</SYNC_POINT_TYPE><SYNC_POINT_LOW>{low}</SYNC_POINT_LOW>"
        f"<SYNC_POINT_HIGH>{high}</SYNC_POINT_HIGH><SYNC_POINT_COMMENT>{words}</SYNC_POINT_COMMENT></SYNC_POINT>"
        for kind, low, high, words in [
            ("RELATIVE", rate, 0, "slate"), ("ABSOLUTE", (3 << 32) + 3 * rate & 0xFFFF_FFFF, 3, "bell"),
            ("RELATIVE", "soon", 0, "no number"), ("RELATIVE", 99 * rate, 0, "beyond its end"),
        ]
    )  # fmt: skip
    text = f"<BWFXML><SYNC_POINT_LIST>{listed}</SYNC_POINT_LIST></BWFXML>"
    path = tmp_path / "a.wav"
    bext = wave.Bext(time_reference=3 << 32)
    wave.write_wave(
        path, iter([np.zeros((5 * rate, 1), np.float32)]), sample_rate=rate, channels=1, bext=bext, ixml=text
    )
    cue = struct.pack("<I", 2) + b"".join(
        struct.pack("<II4sIII", number, at, b"data", 0, 0, at) for number, at in ((1, 2 * rate), (2, rate))
    )
    label = struct.pack("<4sII", b"labl", 4 + 5, 1) + b"door\0" + b"\0"
    chunks = b"".join(
        name + struct.pack("<I", len(data)) + data for name, data in ((b"cue ", cue), (b"LIST", b"adtl" + label))
    )
    with path.open("r+b") as file:
        file.seek(0, 2)
        file.write(chunks)
    found = [(float(one.at), one.label) for one in read_facts(path).markers]
    assert found == [(1.0, "slate"), (2.0, "door"), (3.0, "bell")]
    # Short and broken chunks are passed over: the sound is read as before.
    with path.open("r+b") as file:
        file.seek(0, 2)
        file.write(
            b"cue " + struct.pack("<I", 6) + b"\1\0\0\0\0\0" + b"LIST" + struct.pack("<I", 12) + b"adtllabl\xff\0\0\0"
        )
    assert read_facts(path).samples == 5 * rate
