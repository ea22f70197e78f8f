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
    text = ixml.build(info, sample_rate=RATE, time_reference=5)
    assert ixml.parse(text) == ixml.IXml(**{**{f: getattr(info, f) for f in info.__slots__}, "drop": False})
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


@pytest.mark.parametrize("bits", [16, 24])
def test_a_recording_that_was_never_closed_is_read_from_where_its_sound_begins(tmp_path, bits):
    """A crash while recording: sizes of nothing in the header, and the samples lie there all the same."""
    path = tmp_path / "crashed.wav"
    rng = np.random.default_rng(bits)
    sound = (rng.integers(-30_000, 30_000, (4_001, 2)) / 32768).astype(np.float32)
    write_wave(path, iter([sound]), sample_rate=48_000, channels=2, bext=Bext(time_reference=7), bits=bits)
    data = bytearray(path.read_bytes())
    at = data.index(b"data")
    data[at + 4 : at + 8] = data[4:8] = b"\0\0\0\0"
    path.write_bytes(data)
    facts = read_facts(path)
    assert (facts.samples, facts.time_reference) == (4_001, 7)
    assert any("never closed" in remark for remark in facts.remarks)
    with SoundReader(path) as reader:
        assert reader.frames == 4_001
        np.testing.assert_allclose(reader.read(0, 4_001), sound, atol=1e-6)
        np.testing.assert_allclose(reader.read(-2, 5)[2:], sound[:3], atol=1e-6)


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
