"""Sound in movies of several kinds: every stream, from the first picture on, to the sample."""

import os
from fractions import Fraction

import av
import numpy as np
import pytest

from vesk.core.errors import MediaError
from vesk.core.sound.features import WORK_RATE, OnsetBuilder, onset_features
from vesk.dailies.located import locate
from vesk.media import cache, movie_sound, probe
from vesk.media.peaks import PeaksBuilder, read_peaks
from vesk.media.working import SpilledRows

FS = 48_000
PIXELS = {"mjpeg": "yuvj420p", "prores_ks": "yuv422p10le", "dnxhd": "yuv422p"}
COMPRESSED = {"aac", "libmp3lame", "adpcm_ima_wav", "wmav2"}
CLICK = 31_000  # sample at which each stream clicks


def click(seconds: float, at: int, level: float = 0.5) -> np.ndarray:
    sound = 0.001 * np.random.default_rng(at).normal(size=int(seconds * FS))
    sound[at : at + 24] += level * np.hanning(24)
    return sound.astype(np.float32)


def moved(packets, later):
    """Stamp packets of sound `later(sample)` samples later than they are."""
    for packet in packets:
        by = round(later(packet.pts * packet.time_base * FS) / FS / packet.time_base) if packet.pts is not None else 0
        if by:
            packet.pts, packet.dts = packet.pts + by, packet.dts + by
        yield packet


def make(path, sounds, *, container, picture="mpeg2video", codec="pcm_s16le", late=0, layout="mono", later=lambda _: 0):
    """Write two seconds of picture and a sound stream for each of `sounds`, `late` samples after the picture."""
    with av.open(str(path), "w", format=container) as out:
        video = out.add_stream(picture, rate=25)
        wide, high = (256, 144) if picture == "dnxhd" else (64, 48)
        video.width, video.height, video.pix_fmt = wide, high, PIXELS.get(picture, "yuv420p")
        if picture == "dnxhd":
            video.options = {"profile": "dnxhr_lb"}
        if picture == "mpeg2video":
            video.bit_rate = 2_000_000
        streams = [out.add_stream(codec, rate=FS, layout=layout) for _ in sounds]
        for k in range(sounds[0].size // 1920):
            frame = av.VideoFrame.from_ndarray(np.full((high, wide, 3), k * 5 % 256, np.uint8), format="rgb24")
            frame.pts, frame.time_base = k, Fraction(1, 25)
            out.mux(video.encode(frame.reformat(format=video.pix_fmt)))
            for stream, sound in zip(streams, sounds, strict=True):
                piece = np.clip(sound[k * 1920 : (k + 1) * 1920], -1, 1)
                shaped = piece.reshape(1, -1)
                kind = "s16" if codec.startswith("pcm") else "fltp"
                data = (shaped * 32767).astype(np.int16) if kind == "s16" else shaped.astype(np.float32)
                audio = av.AudioFrame.from_ndarray(data, format=kind, layout=layout)
                audio.sample_rate, audio.pts, audio.time_base = FS, k * 1920 + late, Fraction(1, FS)
                for packet in moved(stream.encode(audio), later):
                    out.mux(packet)
        out.mux(video.encode(None))
        for stream in streams:
            for packet in moved(stream.encode(None), later):
                out.mux(packet)
    return path


def samples(path):
    return np.concatenate(list(movie_sound.sound_blocks(path)))


def test_each_mono_stream_is_a_channel_in_its_order(tmp_path):
    path = make(tmp_path / "a.mov", [click(2, CLICK + 500 * n) for n in range(3)], container="mov")
    facts = probe.read_facts(path)
    assert (facts.channels, facts.sample_rate, facts.frames) == (3, FS, 50)
    sound = samples(path)
    assert sound.shape == (2 * FS, 3)
    assert [int(np.argmax(channel)) - CLICK - 12 for channel in sound.T] == pytest.approx([0, 500, 1000], abs=1)


@pytest.mark.parametrize(
    ("name", "container", "picture", "codec"),
    [
        ("a.mxf", "mxf", "mpeg2video", "pcm_s16le"),
        ("a.avi", "avi", "mjpeg", "pcm_s16le"),
        ("a.mp4", "mp4", "libx264", "aac"),
        ("a.mov", "mov", "libx264", "aac"),
        ("a.mov", "mov", "prores_ks", "pcm_s16le"),
        ("a.mxf", "mxf", "dnxhd", "pcm_s16le"),
        ("A.M2TS", "mpegts", "libx264", "aac"),
        ("a.mpg", "mpeg", "mpeg2video", "mp2"),
        ("a.3gp", "3gp", "libx264", "aac"),
    ],
)
def test_sound_is_true_to_the_sample_in(tmp_path, name, container, picture, codec):
    path = make(tmp_path / name, [click(2, CLICK)], container=container, picture=picture, codec=codec)
    facts = probe.read_facts(path)
    assert (facts.fps, facts.frames, facts.channels) == (25, 50, 1)
    sound = samples(path)[:, 0]
    assert int(np.argmax(sound)) - 12 == pytest.approx(CLICK, abs=1)  # a coder's priming is left out


@pytest.mark.parametrize("late", [4_800, 240])
def test_sound_that_begins_after_the_picture_is_laid_there(tmp_path, late):
    path = make(tmp_path / "late.mov", [click(2, CLICK)], container="mov", late=late)
    sound = samples(path)[:, 0]
    assert int(np.argmax(sound)) - 12 == pytest.approx(CLICK + late, abs=50)  # edit lists count milliseconds
    assert np.abs(sound[: late - 60]).max() == 0


HOLED = [
    ("h.mp4", "mp4", "aac"),
    ("h.mkv", "matroska", "aac"),
    ("h.mts", "mpegts", "aac"),
    ("p.mkv", "matroska", "pcm_s16le"),
]


@pytest.mark.parametrize(("name", "container", "codec"), HOLED)
@pytest.mark.parametrize("lost", [9 * 1024, 9_600])
def test_sound_that_stops_on_the_way_goes_on_where_it_is_stamped(tmp_path, name, container, codec, lost):
    # A writer that was too slow lost packets: what comes after belongs to its own pictures, not to those before.
    path = make(
        tmp_path / name, [click(2, 62_000)], container=container, picture="libx264", codec=codec,
        later=lambda at: lost * (at >= 46_000) + 4_800 * (at >= 80_000),
    )  # fmt: skip
    place = locate(path, tmp_path / "cache")
    place.ensure_heard()
    with place.reader() as reader:
        sound = reader.read(0, reader.frames)[:, 0]
    within = 1 if container != "matroska" else 24  # stamps of a millisecond
    assert int(np.argmax(sound)) - 12 == pytest.approx(62_000 + lost, abs=within)
    assert np.abs(sound[47_200 + 2_000 : 46_000 + lost - 200]).max() < 2e-4
    first, second = cache.heard(place.entry).holes
    assert (first.at_s, first.seconds) == pytest.approx((46_700 / FS, lost / FS), abs=0.025)
    assert second.seconds == pytest.approx(0.1, abs=0.001)


def test_stamps_that_overlap_jitter_or_stray_move_nothing_but_what_overlaps(tmp_path):
    sound, base = click(2, 62_000), {"container": "matroska", "picture": "libx264"}
    told = []

    def found(name, later):
        told.clear()
        path = make(tmp_path / name, [sound], later=later, **base)
        return int(np.argmax(np.concatenate(list(movie_sound.sound_blocks(path, told.append))))) - 12 - 62_000

    assert found("overlaps.mkv", lambda at: -960 * (at >= 46_000)) == -960
    assert [hole.seconds for hole in told] == [-0.02]
    assert found("jitters.mkv", lambda at: 192 * ((int(at / 1920) + 1) % 3 - 1)) == 0
    assert found("strays.mkv", lambda at: 1_900 * (round(at) == 46_080)) == 0  # one frame alone is stamped elsewhere
    assert not told


@pytest.mark.parametrize(
    ("name", "ppm", "jitter"),
    [("c.mp4", 60, 60), ("c.mp4", -400, 1), ("c.mkv", 0, 0)],
)
def test_sound_whose_stamps_creep_lies_where_they_say_without_a_step(tmp_path, name, ppm, jitter):
    # A telephone stamps its sound by another clock than the one that samples it, and shows its pictures by that.
    clicks = np.arange(2, 60, 4) * FS
    sound = click(60, 0)
    for at in clicks:
        sound[at : at + 24] += 0.5 * np.hanning(24)
    rng, told = np.random.default_rng(3), []
    path = make(
        tmp_path / name, [sound], container="mp4" if name.endswith("4") else "matroska", picture="mpeg4", codec="aac",
        later=lambda at: at * ppm * 1e-6 + jitter * rng.random(),
    )  # fmt: skip
    heard = np.concatenate(list(movie_sound.sound_blocks(path, told.append)))[:, 0]
    late = np.array([int(np.argmax(np.abs(heard[at - 2_000 : at + 2_000]))) - 2_012 for at in clicks])
    assert not told
    assert np.abs(late - clicks * ppm * 1e-6).max() < 60 + jitter
    settled = clicks > 25 * FS
    assert np.abs(np.diff(late[settled]) - 4 * FS * ppm * 1e-6).max() < 6  # a sixth of a millisecond in four seconds
    if not ppm:
        assert np.ptp(late) <= 1  # a coder's


def test_a_sound_file_that_is_no_wav_is_read(tmp_path):
    soundfile = pytest.importorskip("soundfile")
    for name, subtype in (("a.aiff", "PCM_24"), ("a.flac", "PCM_24"), ("f.wav", "FLOAT"), ("u.wav", "PCM_U8")):
        path = tmp_path / name
        soundfile.write(str(path), np.stack([click(1, 9_000), click(1, 12_000)], axis=1), 96_000, subtype=subtype)
        facts = probe.read_facts(path)
        assert (facts.kind, facts.channels, facts.sample_rate, facts.samples) == ("sound", 2, 96_000, FS), name


def test_a_damaged_packet_is_a_hole_and_what_comes_after_lies_where_it_did(tmp_path):
    whole, broken = tmp_path / "whole.mp4", tmp_path / "broken.mp4"
    with av.open(str(whole), "w") as made:
        stream = made.add_stream("aac", rate=FS, layout="mono")
        sound = click(6, 4 * FS)
        for start in range(0, sound.size, 1024):
            block = np.ascontiguousarray(sound[None, start : start + 1024])
            frame = av.AudioFrame.from_ndarray(block, format="fltp", layout="mono")
            frame.sample_rate, frame.pts, frame.time_base = FS, start, Fraction(1, FS)
            made.mux(stream.encode(frame))
        made.mux(stream.encode(None))
    with av.open(str(whole)) as opened:
        places = [(packet.pos, packet.size) for packet in opened.demux(audio=0) if packet.size]
    data = bytearray(whole.read_bytes())
    for pos, size in places[90:92]:
        data[pos : pos + size] = b"\xff" * size
    broken.write_bytes(data)
    holes = []
    sound = np.concatenate(list(movie_sound.sound_blocks(broken, holes.append)))[:, 0]
    assert int(np.argmax(sound)) - 12 == pytest.approx(4 * FS, abs=3)
    assert [one.seconds for one in holes] == [pytest.approx(2 * 1024 / FS, abs=1025 / FS)]
    for pos, size in places:
        data[pos : pos + size] = b"\xff" * size
    broken.write_bytes(data)
    with pytest.raises(MediaError, match="cannot be read"):
        list(movie_sound.sound_blocks(broken))


def test_of_several_sound_tracks_one_that_cannot_be_decoded_costs_only_itself(tmp_path):
    path = tmp_path / "two.mov"
    make(path, [click(2, CLICK), click(2, CLICK)], container="mov", codec="aac")
    whole = path.read_bytes()
    with av.open(str(path)) as opened:
        places = [(packet.pos, packet.size) for packet in opened.demux(audio=0) if packet.size]
    data = bytearray(whole)
    for pos, size in places:
        data[pos : pos + size] = b"\xff" * size
    path.write_bytes(data)
    holes = []
    sound = np.concatenate(list(movie_sound.sound_blocks(path, holes.append)))
    assert sound.shape[1] == 2
    assert not sound[:, 0].any()
    assert int(np.argmax(sound[:, 1])) - 12 == pytest.approx(CLICK, abs=3)
    assert [(one.at_s, one.seconds) for one in holes] == [(0.0, pytest.approx(2, abs=0.05))]
    # A coder that nobody here knows.
    data = bytearray(whole)
    entry = data.rindex(b"stsd") + 16
    data[entry : entry + 4] = b"nobo"
    told = data.index(b"esds", entry)
    data[told : told + 4] = b"nobo"
    path.write_bytes(data)
    facts = probe.read_facts(path)
    assert facts.channels == 1
    assert "1 of its sound tracks cannot be decoded here: they are left out" in facts.remarks
    sound = np.concatenate(list(movie_sound.sound_blocks(path)))
    assert int(np.argmax(sound[:, 0])) - 12 == pytest.approx(CLICK, abs=3)


def put_cover(made):
    """Put a picture into a file of sound, as a record has one."""
    cover = made.add_stream("mjpeg", rate=25)
    cover.width, cover.height, cover.pix_fmt = 64, 64, "yuvj420p"
    cover.disposition = av.stream.Disposition.attached_pic
    made.mux(cover.encode(av.VideoFrame(64, 64, "yuvj420p")))
    made.mux(cover.encode(None))


@pytest.mark.parametrize(
    ("name", "container", "codec"),
    [
        ("C.mov", "mov", "pcm_s24le"),
        ("C.mp4", "mp4", "aac"),
        ("note.m4a", "ipod", "aac"),
        ("note.mp3", "mp3", "libmp3lame"),
        ("song with a cover.mp3", "mp3", "libmp3lame"),
        ("note.mka", "matroska", "pcm_s24le"),
        ("small recorder.wav", "wav", "adpcm_ima_wav"),
        ("small recorder.wma", "asf", "wmav2"),
    ],
)
def test_a_camera_file_with_sound_alone_is_a_sound_recording(tmp_path, name, container, codec):
    path = tmp_path / name
    try:
        with av.open(str(path), "w", format=container) as made:
            stream = made.add_stream(codec, rate=FS, layout="mono", bit_rate=128_000)
            if "cover" in name:
                put_cover(made)
            ready = av.AudioResampler(format=stream.codec_context.format, layout="mono", rate=FS)
            block = np.clip(click(2, CLICK) * 32767, -32768, 32767).astype(np.int16)
            for start in range(0, block.size, 1024):
                frame = av.AudioFrame.from_ndarray(block[None, start : start + 1024], format="s16", layout="mono")
                frame.sample_rate, frame.pts, frame.time_base = FS, start, Fraction(1, FS)
                for one in ready.resample(frame):
                    made.mux(stream.encode(one))
            made.mux(stream.encode(None))
    except av.error.FFmpegError:
        pytest.skip(f"the media library writes no {codec}")
    place = locate(path, tmp_path / "cache")
    assert (place.facts.kind, place.facts.coded) == ("sound", True)
    assert float(place.facts.duration) == pytest.approx(2, abs=0.1)
    place.ensure_heard()
    with place.reader() as reader:
        sound = reader.read(0, reader.frames)[:, 0]
    assert int(np.argmax(sound)) - 12 == pytest.approx(CLICK, abs={"libmp3lame": 1200, "wmav2": 2100}.get(codec, 1))
    assert any("as its container says" in remark for remark in place.facts.remarks) == (codec in COMPRESSED)


def test_a_file_of_sound_that_tells_no_length_is_as_long_as_its_packets(tmp_path):
    path = tmp_path / "memo.mp3"
    sound = 0.0005 * np.random.default_rng(1).normal(size=40 * FS)
    sound[20 * FS :] *= 400  # its second half takes more room
    with av.open(str(path), "w", options={"write_xing": "0"}) as made:
        variable = {"compression_level": "7", "global_quality": "236", "flags": "+qscale"}
        stream = made.add_stream("libmp3lame", rate=FS, layout="mono", options=variable)
        for start in range(0, sound.size, 1152):
            block = np.ascontiguousarray(sound[None, start : start + 1152], np.float32)
            frame = av.AudioFrame.from_ndarray(block, format="fltp", layout="mono")
            frame.sample_rate, frame.pts, frame.time_base = FS, start, Fraction(1, FS)
            made.mux(stream.encode(frame))
        made.mux(stream.encode(None))
    with av.open(str(path)) as opened:
        assert abs(opened.duration / 1e6 - 40) > 2  # as the library guesses
    assert float(probe.read_facts(path).duration) == pytest.approx(40, abs=0.1)


@pytest.mark.parametrize("count", [0, 31, 32 * 65_537 + 5, 32 * (1 << 17)])
def test_peaks_written_as_sound_streams_by_hold_its_extremes_at_every_level(tmp_path, count):
    rng = np.random.default_rng(count)
    sound = rng.uniform(-0.5, 0.5, (count, 2)).astype(np.float32)
    path = tmp_path / "peaks.vpk"
    builder = PeaksBuilder(2, path)
    for start in range(0, count, 100_003):
        builder.add(sound[start : start + 100_003].T)
    assert not path.exists()
    builder.finish()
    for level in (5, 6, 12, 17):
        groups = -(-count // (1 << level))
        told = read_peaks(path, level, 0, groups + 1, [0, 1]).astype(int)
        assert not told[groups].any()
        for at in {0, groups // 2, groups - 1} if groups else ():
            part = sound[at << level : (at + 1) << level] * 32767
            assert np.allclose(told[at, :, 0], part.min(axis=0), atol=0.51)
            assert np.allclose(told[at, :, 1], part.max(axis=0), atol=0.51)


def test_features_do_not_depend_on_where_their_energies_wait(tmp_path):
    sound = (np.random.default_rng(2).standard_normal(WORK_RATE * 400) * 0.1).astype(np.float32)
    sound[WORK_RATE * 30 : WORK_RATE * 60] = 0
    rows = SpilledRows(tmp_path / "rows")
    builder = OnsetBuilder(rows)
    for start in range(0, sound.size, 77_777):
        builder.feed(sound[start : start + 77_777])
    assert np.array_equal(np.concatenate([*builder.finish()]), onset_features(sound))
    rows.drop()
    assert list(tmp_path.iterdir()) == []


def test_text_named_like_a_movie_is_told(tmp_path):
    path = tmp_path / "A006_001.mov"
    path.write_text("no movie", encoding="utf-8")
    with pytest.raises(MediaError, match="cannot be read"):
        probe.read_facts(path)


def test_a_full_cache_lets_the_oldest_unused_go_and_nothing_that_is_worked_on(tmp_path):
    names = [f"{n:02}aa" for n in range(5)]
    for age, name in enumerate(names):
        entry = cache.entry_of(tmp_path, name)
        entry.folder.mkdir(parents=True)
        (entry.folder / "sound.wav").write_bytes(bytes(1000))
        entry.done.touch()
        os.utime(entry.done, (1000 + age, 1000 + age))
    cache.touch(cache.entry_of(tmp_path, names[0]))  # the oldest, but used just now
    assert cache.trim(tmp_path, 10_000)[:2] == (0, 0)
    assert cache.trim(tmp_path, 3_000, keep={names[1]})[:2] == (2, 2000)
    assert sorted(path.name for path in tmp_path.glob("??/*")) == [names[0], names[1], names[4]]
