"""Media hash lists: every file of a package with its hash, size and date, as the open standard writes them.

Source: the ASC Media Hash List specification, version 2.0 (hashlist, chain). Hashes are xxh128; the chain names each
list with the C4 identifier (SMPTE ST 2114) of its bytes.
"""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path, PurePosixPath
from xml.etree import ElementTree

from vesk.core.errors import MediaError
from vesk.media import checksum
from vesk.media.whole import written_whole

FOLDER = "ascmhl"
_SPACE = "urn:ASC:MHL:v2.0"
_CHAIN_SPACE = "urn:ASC:MHL:DIRECTORY:v2.0"
_C4 = "123456789ABCDEFGHJKLMNPQRSTUVWXYZabcdefghijkmnopqrstuvwxyz"


@dataclass(frozen=True, slots=True)
class Hashed:
    """A file below a folder: its path from there, bytes, time of change, xxh128 in hexadecimal."""

    path: str
    size: int
    changed: datetime
    xxh128: str


def hash_file(path: Path, root: Path, known: str = "") -> Hashed:
    """Return a file with its hash: by every byte, or as it was just found (`checksum.whole_hash`).

    Raises
    ------
    MediaError
        If it cannot be read.
    """
    content = known or checksum.whole_hash(path)
    stat = path.stat()
    changed = datetime.fromtimestamp(stat.st_mtime, UTC)
    name = str(PurePosixPath(path.relative_to(root)))
    return Hashed(name, stat.st_size, changed, content.removeprefix(checksum.WHOLE))


def write_hash_list(root: Path, files: Iterable[Hashed], *, name: str, by: str, version: str) -> Path:
    """Write a hash list of a folder's files into the folder, and the chain that names it.

    Parameters
    ----------
    root : Path
        The package; never a folder of originals.
    files : iterable of Hashed
    name : str
        Of the package.
    by : str
        Who made it.
    version : str
        Of Vesk.

    Returns
    -------
    Path
        The list.
    """
    now = datetime.now(UTC)
    tree = ElementTree.Element("hashlist", {"version": "2.0", "xmlns": _SPACE})
    creator = ElementTree.SubElement(tree, "creatorinfo")
    ElementTree.SubElement(creator, "creationdate").text = _date(now)
    ElementTree.SubElement(creator, "hostname").text = "localhost"
    ElementTree.SubElement(creator, "tool", {"version": version}).text = "Vesk"
    author = ElementTree.SubElement(creator, "author")
    ElementTree.SubElement(author, "name").text = by
    process = ElementTree.SubElement(tree, "processinfo")
    ElementTree.SubElement(process, "process").text = "in-place"
    listed = ElementTree.SubElement(tree, "hashes")
    for one in sorted(files, key=lambda one: one.path):
        own = ElementTree.SubElement(listed, "hash")
        attributes = {"size": str(one.size), "lastmodificationdate": _date(one.changed)}
        ElementTree.SubElement(own, "path", attributes).text = one.path
        ElementTree.SubElement(own, "xxh128", {"action": "original", "hashdate": _date(now)}).text = one.xxh128
    folder = root / FOLDER
    folder.mkdir(exist_ok=True)
    target = folder / f"0001_{_plain(name)}_{now.strftime('%Y-%m-%d_%H%M%SZ')}.mhl"
    _save(tree, target)
    chain = ElementTree.Element("ascmhldirectory", {"xmlns": _CHAIN_SPACE})
    own = ElementTree.SubElement(chain, "hashlist", {"sequencenr": "1"})
    ElementTree.SubElement(own, "path").text = target.name
    ElementTree.SubElement(own, "c4").text = c4_of(target.read_bytes())
    _save(chain, folder / "ascmhl_chain.xml")
    return target


def read_hash_list(path: Path) -> list[tuple[str, int, str]]:
    """Return the files of a hash list: path, size, xxh128.

    Raises
    ------
    MediaError
        If it is none.
    """
    text = path.read_text(encoding="utf-8")
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise MediaError(path, "it is no hash list", "Make it again.")
    try:
        root = ElementTree.fromstring(text)  # noqa: S314 - entities are refused above
    except ElementTree.ParseError as error:
        raise MediaError(path, "it is no hash list", "Make it again.") from error
    space = {"m": _SPACE}
    found = []
    for one in root.iterfind("m:hashes/m:hash", space):
        place, own = one.find("m:path", space), one.findtext("m:xxh128", "", space)
        if place is not None and place.text:
            found.append((place.text, int(place.get("size", "-1")), own))
    return found


def verify(root: Path, listed: Path, *, but: Collection[str] = ()) -> list[str]:
    """Return what of a folder is not as its hash list says: a sentence each; nothing where all of it holds.

    Parameters
    ----------
    root : Path
    listed : Path
        The list.
    but : collection of str
        Files that were read just now, and are not again.
    """
    said = []
    for name, size, own in read_hash_list(listed):
        if name in but:
            continue
        path = root / name
        if not path.is_file():
            said.append(f"{name}: it is not there")
        elif path.stat().st_size != size or hash_file(path, root).xxh128 != own:
            said.append(f"{name}: it holds other bytes than were handed over")
    return said


def c4_of(data: bytes) -> str:
    """Return the C4 identifier of bytes: their SHA-512 in 58 letters, 90 characters long."""
    value, letters = int.from_bytes(hashlib.sha512(data).digest(), "big"), ""
    while value:
        value, rest = divmod(value, 58)
        letters = _C4[rest] + letters
    return "c4" + letters.rjust(88, _C4[0])


def _plain(name: str) -> str:
    return "".join(letter if letter.isalnum() or letter in "-_" else "_" for letter in name)[:60] or "package"


def _date(when: datetime) -> str:
    return when.isoformat(timespec="seconds")


def _save(tree: ElementTree.Element, target: Path) -> None:
    ElementTree.indent(tree)
    text = '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(tree, encoding="unicode") + "\n"
    with written_whole(target) as part:
        part.write_text(text, encoding="utf-8")
