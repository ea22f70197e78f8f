"""The guarded border: whatever a file holds or does, its own sentence comes back, and others are read meanwhile."""

import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import av
import numpy as np
import pytest
import soundfile
from tests.conftest import PROJECT, until

from vesk.core.errors import MediaError
from vesk.media import checksum, frames, ixml, movie, movie_sound, probe, scan
from vesk.media.guarded import bordered, guarded
from vesk.media.sound import SoundReader
from vesk.media.wave import Bext, write_wave
from vesk.settings import Settings, from_environment

NOISE = (np.random.default_rng(7).standard_normal((96_000, 1)) * 0.1).astype(np.float32)


def film(path, **tags):
    """Write a second of film with sound and timecode."""
    with av.open(f"file:{path.absolute()}", "w") as made:
        picture = made.add_stream("libx264", rate=25)
        picture.width, picture.height, picture.pix_fmt = 64, 48, "yuv420p"
        picture.metadata["timecode"] = "09:00:00:00"
        sound = made.add_stream("pcm_s16le", rate=48_000)
        sound.layout = "mono"
        made.metadata.update(tags)
        for n in range(25):
            frame = av.VideoFrame.from_ndarray(np.full((48, 64, 3), n * 9, np.uint8), format="rgb24")
            frame.pts = n
            made.mux(picture.encode(frame))
        made.mux(picture.encode(None))
        block = av.AudioFrame.from_ndarray((NOISE[:48_000].T * 32767).astype(np.int16), format="s16", layout="mono")
        block.rate, block.pts = 48_000, 0
        made.mux(sound.encode(block))
        made.mux(sound.encode(None))
    return path


def rest(_path: Path, seconds: float) -> str:
    time.sleep(seconds)
    return "read"


def stumble(_path: Path) -> None:
    raise KeyError("stsd")


def test_a_picture_of_an_unknown_coder_gives_its_timecode_and_its_sound(tmp_path):
    path = film(tmp_path / "proprietary.mov")
    path.write_bytes(path.read_bytes().replace(b"avc1", b"zzzz"))
    facts = guarded(path, 30, probe.read_facts, path)
    assert (facts.kind, facts.codec, facts.timecode, facts.frames) == ("picture", "unknown", "09:00:00:00", 25)
    assert movie.NO_PICTURE in facts.remarks
    sound = np.concatenate(list(movie_sound.sound_blocks(path)))
    assert np.abs(sound[:, 0] - NOISE[:48_000, 0]).max() < 1e-3
    with pytest.raises(MediaError, match="no picture that can be decoded here"):
        list(frames.frame_images(path, [0], height=48))


def test_a_tag_in_other_letters_a_colon_and_a_name_that_is_no_text_stop_nothing(tmp_path):
    path = film(tmp_path / "latin.mov", title="LATIN-TAG")
    path.write_bytes(path.read_bytes().replace(b"LATIN-TAG", b"Gr\xf6\xdfe\xff\xfe\xfd\xfc"))
    assert probe.read_facts(path).frames == 25
    odd = tmp_path / "a:b" / os.fsdecode(b"c\xe9:1.mov")
    odd.parent.mkdir()
    path.rename(odd)
    shown = scan.shown(odd, tmp_path)
    assert shown.encode()  # kept and printed
    assert probe.read_facts(scan.placed(tmp_path, shown)).frames == 25
    wav = odd.with_suffix(".wav")
    write_wave(wav, iter([NOISE]), sample_rate=48_000, channels=1)
    with SoundReader(scan.placed(tmp_path, scan.shown(wav, tmp_path))) as reader:
        assert reader.read(0, 96_000).shape == (96_000, 1)


def test_media_folders_may_hold_any_letter_between_processes(tmp_path):
    roots = (tmp_path / "a:b", tmp_path / "[c]", tmp_path / "d e")
    told = Settings("", tmp_path, roots).environment()
    assert from_environment(told).media_roots == roots
    assert from_environment({"VESK_MEDIA": "/one:two"}).media_roots == (Path("/one:two"),)


def test_a_playlist_named_like_a_movie_opens_nothing_else(tmp_path):
    film(tmp_path / "real.mov")
    for name, text in (
        ("list.mov", f"#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\nfile://{tmp_path}/real.mov\n#EXT-X-ENDLIST\n"),
        ("list.mp4", f"ffconcat version 1.0\nfile {tmp_path}/real.mov\n"),
    ):
        path = tmp_path / name
        path.write_text(text)
        with pytest.raises(MediaError, match="cannot be read"):
            probe.read_facts(path)


@pytest.mark.parametrize("number", ["9" * 5000, "1e400000000", "-3", "1/0"])
def test_figures_in_ixml_are_bounded(tmp_path, number):
    text = (
        f"<BWFXML><SCENE>31A</SCENE><SPEED><TIMECODE_RATE>{number}</TIMECODE_RATE></SPEED><TRACK_LIST><TRACK>"
        f"<CHANNEL_INDEX>{number}</CHANNEL_INDEX><NAME>mix</NAME></TRACK></TRACK_LIST><FILE_SET><TOTAL_FILES>{number}"
        "</TOTAL_FILES><FAMILY_UID>x</FAMILY_UID></FILE_SET></BWFXML>"
    )
    path = tmp_path / "x.wav"
    write_wave(path, iter([NOISE]), sample_rate=48_000, channels=1, bext=Bext(), ixml=text)
    facts = guarded(path, 10, probe.read_facts, path)
    assert (facts.scene, facts.timecode_rate, facts.family_size) == ("31A", None, "")
    assert ixml.parse(text).track_names == ()


def test_a_foreign_error_becomes_the_files_own_sentence():
    path = Path("S1/x.wav")
    for read in (lambda: guarded(path, 30, stumble, path), lambda: bordered(path, stumble, path)):
        with pytest.raises(MediaError, match=r"S1/x\.wav: it cannot be read \(KeyError: 'stsd'\)"):
            read()


def test_a_damaged_flac_is_told_where_it_is_read(tmp_path):
    path = tmp_path / "x.flac"
    soundfile.write(path, NOISE, 48_000)
    data = bytearray(path.read_bytes())
    data[len(data) // 2 :] = os.urandom(len(data) // 2)
    path.write_bytes(data)
    with SoundReader(path) as reader, pytest.raises(MediaError, match=r"x\.flac: its sound"):
        reader.read(0, reader.frames)


def test_a_sound_that_is_cut_while_it_is_open_is_not_silence(tmp_path):
    path = tmp_path / "x.wav"
    write_wave(path, iter([NOISE]), sample_rate=48_000, channels=1)
    with SoundReader(path) as reader:
        os.truncate(path, path.stat().st_size // 2)
        with pytest.raises(MediaError, match="ends at sample"):
            reader.read(0, reader.frames)


def test_waiting_is_not_damage_and_running_out_ends_only_ones_own():
    """Six healthy readers and one that hangs, on two processes: the limit of each counts from its own beginning."""
    told: dict[int, str] = {}

    def read(number, seconds, limit):
        try:
            told[number] = guarded(Path(f"{number}.mov"), limit, rest, Path(), seconds)
        except MediaError as error:
            told[number] = str(error)

    guarded(Path("first.mov"), 30, rest, Path(), 0)  # the processes are there
    threads = [threading.Thread(target=read, args=(n, 1.2, 3.0)) for n in range(6)]
    threads.insert(1, threading.Thread(target=read, args=(9, 60.0, 2.0)))
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(30)
    assert "longer than 2 s" in told.pop(9)
    assert set(told.values()) == {"read"}, told


def test_nothing_guarded_outlives_a_starter_that_was_killed(tmp_path):
    mark = tmp_path / "pid"
    script = (
        "import sys, threading, time\nsys.path.insert(0, 'tests/media')\nfrom pathlib import Path\n"
        "from vesk.media.guarded import guarded\nimport orphan\n"
        f"threading.Thread(target=lambda: guarded(Path('x'), 60, orphan.stay, Path({str(mark)!r}))).start()\n"
        "time.sleep(60)\n"  # a starter that reaches its end starts nothing any more
    )
    (tmp_path / "orphan.py").write_text(
        "import os, time\n\ndef stay(mark):\n    mark.write_text(str(os.getpid()))\n    time.sleep(60)\n"
    )
    environment = {**os.environ, "PYTHONPATH": f"{PROJECT / 'src'}:{tmp_path}"}
    with subprocess.Popen([sys.executable, "-c", script], cwd=PROJECT, env=environment) as starter:
        pid = int(until(lambda: mark.exists() and mark.read_text(), 30, "the guarded process"))
        starter.kill()

    def running():
        try:
            return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
        except (FileNotFoundError, ProcessLookupError):  # the second where it ends between opening and reading
            return False

    until(lambda: not running(), 15, "its end")


def test_a_cache_that_cannot_be_written_says_nothing_of_the_recording(tmp_path):
    """In a process that may write no more than 60 kB to a file, as a full disk would allow."""
    path = tmp_path / "x.wav"
    write_wave(path, iter([NOISE]), sample_rate=48_000, channels=1)
    script = f"""
import resource, signal
from pathlib import Path
from vesk.core.errors import MediaError, StorageError
from vesk.media import cache, checksum, probe
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))
path = Path({str(path)!r})
try:
    entry = cache.entry_of(Path({str(tmp_path / "cache")!r}), checksum.whole_hash(path))
    cache.listen(path, probe.read_facts(path), entry)
except StorageError as error:
    print(error)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True, cwd=PROJECT)
    assert "Vesk could not write there" in done.stdout
    assert "No recording is harmed" in done.stdout
    assert "x.wav" not in done.stdout


def test_equal_pieces_are_not_equal_files(tmp_path):
    """Size, beginning, middle and end alike, and one byte between them another: two recordings, two places."""
    one, other = tmp_path / "one.wav", tmp_path / "other.wav"
    data = bytearray(os.urandom(1 << 20))
    one.write_bytes(data)
    data[200_000] ^= 1
    other.write_bytes(data)
    os.utime(other, ns=(one.stat().st_atime_ns, one.stat().st_mtime_ns))
    assert checksum.pieces(one) == checksum.pieces(other)
    kept = tmp_path / "cache"
    assert checksum.content_of(one, kept) != checksum.content_of(other, kept)
    # Remembered for as long as it lies as it does, and no longer: not even with its old size and time.
    was = checksum.content_of(one, kept)
    stat = one.stat()
    data[300_000] ^= 1
    one.write_bytes(data)
    os.utime(one, ns=(stat.st_atime_ns, stat.st_mtime_ns))
    assert checksum.content_of(one, kept) != was


def test_links_that_go_in_circles_are_told_and_passed(tmp_path):
    (tmp_path / "self.mov").symlink_to(tmp_path / "self.mov")
    (tmp_path / "a.wav").symlink_to(tmp_path / "b.wav")
    (tmp_path / "b.wav").symlink_to(tmp_path / "a.wav")
    found = {item.path.name: item.problem for item in scan.walk(tmp_path)}
    assert all("leads to itself" in found[name] for name in ("self.mov", "a.wav", "b.wav"))
    with pytest.raises(MediaError, match="cannot be opened"):
        scan.allowed(tmp_path / "self.mov", (tmp_path,))
