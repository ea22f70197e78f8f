"""Light copies show the recording's frame of the same number, whatever its times are."""

import base64
import json
from fractions import Fraction

import av
import numpy as np
import pytest

from vesk.core.facts import Facts
from vesk.core.kinds import PICTURE, RUN
from vesk.core.picture.levels import Levels
from vesk.core.progress import unwatched
from vesk.dailies import located
from vesk.dailies.located import Located
from vesk.media import cache, frames, light_copy, movie
from vesk.media.light_copy import LightCopy

SIZE = (128, 72)


def film(path, stamps, *, rate=25, first=0, level=200):
    """Write a movie whose every frame says its number in eight fields, light or dark, at the times given."""
    with av.open(str(path), "w") as out:
        stream = out.add_stream("mpeg4", rate=rate, options={"qscale": "2"})
        stream.width, stream.height, stream.pix_fmt = *SIZE, "yuv420p"
        stream.codec_context.time_base = Fraction(1, rate)
        for number in stamps:
            picture = np.full((SIZE[1], SIZE[0], 3), 16, np.uint8)
            for bit in range(8):
                if (number + first) >> bit & 1:
                    picture[:, bit * 16 : bit * 16 + 16] = level
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            frame.pts = number
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))


def read(picture):
    luma = np.frombuffer(picture.planes[0], np.uint8).reshape(-1, picture.planes[0].line_size)[:, : picture.width]
    return told(luma)


def told(luma):
    fields = luma[20:50].mean(axis=0).reshape(8, -1).mean(axis=1)
    return sum(1 << bit for bit in range(8) if fields[bit] > (fields.min() + fields.max()) / 2)


def made(tmp_path, members, *, frames, rate=25, on_progress=unwatched):
    def place(path, count):
        facts = Facts(
            kind=PICTURE,
            duration=Fraction(count, rate),
            fps=Fraction(rate),
            frames=count,
            codec="mpeg4",
            container="mov",
        )
        return Located(path, facts, cache.entry_of(tmp_path / "cache", path.stem * 8))

    own = [place(path, count) for path, count in zip(members, frames, strict=True)]
    whole = own[0]
    if len(own) > 1:
        whole = located.merge(own, RUN, tmp_path / "cache")
    whole.write_light_copy(on_progress)
    return whole.entry, LightCopy(**json.loads(whole.entry.light_index.read_text()))


def numbers_of(copy):
    """Number every frame of a copy as its index says."""
    edges = [*[sample for sample, _ in copy.runs], len(copy.sizes)]
    each = zip(copy.runs, edges, edges[1:], strict=False)
    return [number + at for (_, number), low, high in each for at in range(high - low)]


def test_a_light_copy_numbers_frames_by_their_own_times_and_each_can_be_cut_out_by_its_bytes(tmp_path):
    stamps = [*range(1, 20), *range(23, 60), *range(80, 101)]  # three are missing, then twenty
    film(tmp_path / "cam.mov", stamps)
    entry, copy = made(tmp_path, [tmp_path / "cam.mov"], frames=[100])
    numbers = numbers_of(copy)
    stills = dict(frames.frame_images(tmp_path / "cam.mov", list(range(100)), height=72))
    held = [max(one for one in numbers if one <= at) for at in sorted(stills)]
    assert len(stills) >= numbers[-1]
    data = entry.light.read_bytes()
    assert copy.begins + sum(copy.sizes) <= len(data)
    decoder = av.CodecContext.create("h264", "r")
    decoder.extradata = base64.b64decode(copy.description)
    at, shown = copy.begins, []
    for size in copy.sizes:
        shown += [read(frame) for frame in decoder.decode(av.Packet(data[at : at + size]))]
        at += size
    shown += [read(frame) for frame in decoder.decode(None)]
    # A still asked for by a number is the frame that the copy shows there: its own, or the one before.
    told_by = dict(zip(numbers, shown, strict=True))
    assert [told_by[at] for at in held] == [told(np.asarray(stills[at].convert("L"))) for at in sorted(stills)]
    assert set(shown) <= set(stamps)
    assert len(shown) == len(set(shown)) >= 60
    assert all(b - a <= 8 for a, b in zip(copy.keys, copy.keys[1:], strict=False))
    with av.open(str(entry.light)) as played:  # as a player reads it
        stream = played.streams.video[0]
        times = [round(frame.pts * stream.time_base * Fraction(*copy.fps)) for frame in played.decode(stream)]
        assert not played.streams.audio
    assert [time - times[0] for time in times] == [number - numbers[0] for number in numbers]


def test_what_there_is_of_a_copy_that_is_being_made_can_be_looked_at(tmp_path, monkeypatch):
    monkeypatch.setattr(light_copy, "_GROWN_S", 0.0)
    film(tmp_path / "cam.mov", [*range(20), *range(30, 90)])
    entry, seen = cache.entry_of(tmp_path / "cache", "cam" * 8), []

    def look(_done, _of):
        if entry.light_growing.exists():
            copy = LightCopy(**json.loads(entry.light_growing.read_text()))
            with entry.open_light() as file:
                file.seek(copy.begins)
                seen.append((copy, [file.read(size) for size in copy.sizes]))

    _, whole = made(tmp_path, [tmp_path / "cam.mov"], frames=[90], on_progress=look)
    counts = sorted({len(copy.sizes) for copy, _ in seen})
    assert len(counts) > 5
    assert whole.whole
    assert not entry.light_growing.exists()
    for copy, data in seen[:: len(seen) // 6]:
        decoder = av.CodecContext.create("h264", "r")
        decoder.extradata = base64.b64decode(copy.description)
        shown = [read(frame) for one in [*map(av.Packet, data), None] for frame in decoder.decode(one)]
        assert shown == numbers_of(copy)
        assert not copy.whole
        assert (copy.begins, copy.sizes) == (whole.begins, whole.sizes[: len(shown)])  # it goes on where it was


def test_a_run_is_one_light_copy_of_all_its_files(tmp_path):
    film(tmp_path / "one.mov", range(30))
    film(tmp_path / "two.mov", range(25), first=30)
    entry, copy = made(tmp_path, [tmp_path / "one.mov", tmp_path / "two.mov"], frames=[30, 25])
    with av.open(str(entry.light)) as played:
        assert [read(frame) for frame in played.decode(video=0)] == list(range(55))
    assert (numbers_of(copy), copy.frames) == (list(range(55)), 55)


def test_nothing_half_made_stays(tmp_path):
    film(tmp_path / "cam.mov", range(30))
    whole = (tmp_path / "cam.mov").read_bytes()
    (tmp_path / "cam.mov").write_bytes(whole[:60])
    with pytest.raises(Exception, match="cam"):
        made(tmp_path, [tmp_path / "cam.mov"], frames=[30])
    assert not [path for path in (tmp_path / "cache").rglob("*") if path.is_file()]


def test_dark_and_flat_pictures_are_lifted_and_others_are_not():
    def lift(low, high):
        levels = Levels()
        levels.add(np.linspace(low, high, 4000).astype(np.uint8))
        return levels.lift()

    assert lift(16, 235) is None
    dark, log = lift(16, 50), lift(90, 160)
    for found, low, high in ((dark, 16, 50), (log, 90, 160)):
        ends = [(level - 16) / 219 * found.gain + found.shift for level in (low, high)]
        assert ends[0] > -0.05
        assert 0.75 < ends[1] < 1.05
    assert lift(16, 16) is None  # nothing to see


def test_light_copies_are_let_go_before_what_was_heard(tmp_path):
    old, new = (cache.entry_of(tmp_path, name * 16) for name in ("aa", "bb"))
    for own in (old, new):
        own.folder.mkdir(parents=True)
        for path, size in ((own.light, 4000), (own.light_index, 100), (own.peaks, 1000)):
            path.write_bytes(b"x" * size)
        own.done.touch()
    gone, freed, _ = cache.trim(tmp_path, 3000)
    assert (gone, freed) == (2, 8000)
    assert old.peaks.exists()
    assert not new.light_index.exists()


def test_a_variable_rate_is_named_by_the_rate_its_frames_fall_on_and_each_keeps_its_own_number(tmp_path):
    rng = np.random.default_rng(7)
    stamps = [number for number in range(160) if number in {0, 159} or rng.random() > 0.23]
    film(tmp_path / "phone.mov", stamps)
    facts = movie.read_facts(tmp_path / "phone.mov")
    assert (facts.fps, facts.frames, facts.duration) == (25, 160, Fraction(160, 25))
    assert any("variable rate" in remark for remark in facts.remarks)
    shown = dict(frames.frame_images(tmp_path / "phone.mov", [5, *stamps[30:34], 158], height=72))
    for number, image in shown.items():
        own = max(stamp for stamp in stamps if stamp <= number)
        assert told(np.asarray(image.convert("L"), float)) == own
    _, copy = made(tmp_path, [tmp_path / "phone.mov"], frames=[160])
    assert numbers_of(copy) == stamps


@pytest.mark.parametrize("name", ["off.mov", "off.mkv"])
def test_a_picture_that_runs_a_little_off_a_rate_keeps_its_frames_where_they_are_stamped(tmp_path, name):
    # 24.995 frames a second pass for 25; by their count alone the last of these would lie a frame before its sound.
    options = {"movie_timescale": "24995"} if name == "off.mov" else {}
    with av.open(str(tmp_path / name), "w", options=options) as out:
        stream = out.add_stream("mpeg4", rate=Fraction(24_995, 1000), options={"qscale": "2"})
        stream.width, stream.height, stream.pix_fmt = *SIZE, "yuv420p"
        for number in range(6000):
            frame = av.VideoFrame.from_ndarray(np.full((SIZE[1], SIZE[0], 3), number % 200, np.uint8), format="rgb24")
            frame.pts, frame.time_base = number, Fraction(1000, 24_995)
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    facts = movie.read_facts(tmp_path / name)
    assert (facts.fps, facts.frames) == (25, 6001)
    (_, last), *_ = frames.frame_images(tmp_path / name, [6000], height=72)
    assert np.asarray(last.convert("L")).mean() == pytest.approx(5999 % 200, abs=4)


@pytest.mark.parametrize(
    ("name", "lost"), [("long.mov", [2100]), ("long.mkv", [2100]), ("long.mkv", [*range(900, 960)])]
)
def test_a_frame_lost_in_a_long_take_moves_no_other(tmp_path, name, lost):
    # One of four thousand does not show in the average rate: every later frame was named one less at its end.
    film(tmp_path / name, sorted({*range(4100)} - {*lost}))
    facts = movie.read_facts(tmp_path / name)
    assert (facts.fps, facts.frames) == (25, 4100)
    for number, image in frames.frame_images(tmp_path / name, [899, 2099, 2101, 4099], height=72):
        assert told(np.asarray(image.convert("L"), float)) == number % 256, number
    if name == "long.mov":
        assert any("1 of its 4100 frames are missing" in remark for remark in facts.remarks)
