"""Walking a folder: every file once, odd names whole, nothing outside, paperwork only when asked."""

import os

import pytest

from vesk.core.errors import MediaError
from vesk.core.kinds import Unusable
from vesk.dailies.report_lines import COLUMNS
from vesk.media import paperwork, scan
from vesk.media.checksum import AsRead, whole_hash


@pytest.fixture
def folder(tmp_path):
    root = tmp_path / "media"
    (root / "A cam" / "deep").mkdir(parents=True)
    for name in ("A cam/one.mov", "A cam/deep/two.mov", "A cam/.hidden.mov", "report.csv", "notes.txt"):
        (root / name).write_bytes(b"x")
    return root


def test_every_file_once_in_a_settled_order(folder):
    assert [scan.shown(item.path, folder) for item in scan.walk(folder)] == ["A cam/one.mov", "A cam/deep/two.mov"]
    assert "report.csv" in [item.path.name for item in scan.walk(folder, paperwork=True)]


def test_what_was_handed_over_is_not_taken_in_again_unless_it_is_the_folder_asked_for(folder):
    package = folder / "for editorial" / "day-6"
    for name, text in {
        "report.csv": ",".join(COLUMNS), "sound/one.wav": "x", "movies/one.mov": "x",
        "../next (unfinished)/UNFINISHED.txt": "x", "../next (unfinished)/sound/one.wav": "x",
    }.items():  # fmt: skip
        (package / name).parent.mkdir(parents=True, exist_ok=True)
        (package / name).write_text(text)
    # What a person wrote beside a camera's files hides none of them.
    (folder / "A cam" / "report.csv").write_text("scene,take\n")
    (folder / "A cam" / "UNFINISHED.txt").write_text("the second card is at the lab")
    found = {scan.shown(one.path, folder): one for one in scan.walk(folder)}
    assert set(found) == {
        "A cam/one.mov", "A cam/deep/two.mov", "for editorial/day-6", "for editorial/next (unfinished)",
    }  # fmt: skip
    assert found["for editorial/day-6"].kind == Unusable.HANDED_OVER
    assert "handed over" in found["for editorial/day-6"].problem
    assert len(list(scan.walk(package))) == 2


@pytest.mark.parametrize(
    "name",
    [b"sp ace.mov", b"quo\"te'.mov", b"new\nline.mov", b"bad\xff\xfe.mov", "\u202etxt.mov".encode(), b"--rm.mov"],
)
def test_odd_names_are_shown_whole_and_once(folder, name):
    path = os.path.join(os.fsencode(folder), name)  # noqa: PTH118 - a name that is no text
    with open(path, "wb") as file:  # noqa: PTH123
        file.write(b"x")
    shown = [scan.shown(item.path, folder) for item in scan.walk(folder)]
    assert len(shown) == 3
    (own,) = [text for text in shown if not text.startswith("A cam")]
    own.encode("utf-8")  # can be stored and printed
    assert own == "bad\\xFF\\xFE.mov" if b"\xff" in name else own == name.decode().replace("\\", "\\\\")
    assert scan.placed(folder, own).read_bytes() == b"x"  # and found again


def test_nothing_outside_is_reached(folder, tmp_path):
    secret = tmp_path / "secret.mov"
    secret.write_bytes(b"s")
    (folder / "away.mov").symlink_to(secret)
    (folder / "near.mov").symlink_to(folder / "A cam" / "one.mov")
    (folder / "round").symlink_to(folder)  # a link to a folder is not walked: no endless way
    found = {item.path.name: item.problem for item in scan.walk(folder)}
    assert "leads out of the folder" in found["away.mov"]
    assert found["near.mov"] == ""
    assert "link to a folder" in found["round"]
    assert len(found) == 5
    with pytest.raises(MediaError, match="outside the folders"):
        scan.allowed(tmp_path, (folder,))
    with pytest.raises(MediaError, match="outside the folders"):
        scan.allowed(folder / ".." / "secret", (folder,))
    with pytest.raises(MediaError, match="no such folder"):
        scan.allowed(folder / "gone", (folder,))
    assert scan.allowed(folder / "A cam", (folder,)) == (folder / "A cam").resolve()


@pytest.mark.parametrize(
    ("data", "text"),
    [
        ("Größe".encode(), "Größe"),
        ("Größe".encode("utf-8-sig"), "Größe"),
        ("Größe".encode("utf-16"), "Größe"),
        ("Größe".encode("latin-1"), "Größe"),
    ],
)
def test_text_is_read_however_it_was_saved(data, text):
    assert paperwork.decode(data) == text


def test_what_is_too_large_for_a_report_is_not_read(tmp_path):
    path = tmp_path / "huge.csv"
    with path.open("wb") as file:
        file.truncate(paperwork.MOST_BYTES + 1)
    with pytest.raises(MediaError, match="larger than any report"):
        paperwork.read_text(path)
    with pytest.raises(MediaError, match="cannot be opened"):
        paperwork.read_text(tmp_path / "gone.csv")


def test_a_hash_knows_content_wherever_it_lies(tmp_path):
    one, other = tmp_path / "a", tmp_path / "b"
    data = os.urandom(300_000)
    one.write_bytes(data)
    other.write_bytes(data)
    assert whole_hash(one) == whole_hash(other)
    other.write_bytes(data[:-1] + bytes([data[-1] ^ 1]))
    assert whole_hash(one) != whole_hash(other)
    other.write_bytes(data + b"x")
    assert whole_hash(one) != whole_hash(other)


def test_a_file_that_gets_another_link_or_mode_while_it_is_read_has_not_changed(tmp_path):
    one, data = tmp_path / "a", os.urandom(300_000)
    one.write_bytes(data)
    stat, wanted = one.stat(), whole_hash(one)

    def while_read(do):
        left = [do]
        return lambda _done, _total: left.pop()() is None if left else True

    assert whole_hash(one, while_read(lambda: os.link(one, tmp_path / "b"))) == wanted
    assert whole_hash(one, while_read(lambda: one.chmod(0o640))) == wanted
    as_read = AsRead.of(one, wanted)
    one.chmod(0o600)
    assert as_read.holds()
    with pytest.raises(MediaError, match="changed while it was read"):
        whole_hash(one, while_read(lambda: one.write_bytes(data[::-1])))
    os.utime(one, ns=(stat.st_atime_ns, stat.st_mtime_ns))  # of the same size and time, and of other content
    assert not as_read.holds()
    one.write_bytes(data)
    assert not as_read.holds()  # what was read in between may have been something else
