"""A file system that can be made to hang: another folder, read-only, answered by a process that may be stopped.

As a script: mounts SOURCE at TARGET and answers until it is ended. It speaks the kernel's own protocol for file systems
in user space (linux/fuse.h, version 7.31), as much of it as reading files takes.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import signal
import stat
import struct
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

_LOOKUP, _FORGET, _GETATTR, _OPEN, _READ, _STATFS, _RELEASE = 1, 2, 3, 14, 15, 17, 18
_INIT, _OPENDIR, _READDIR, _INTERRUPT, _FORGETS = 26, 27, 28, 36, 42
_NOTHING_TO_SAY = {25, 29, 34, 38}  # flush, a folder closed, whether one may, the end
_PAST_PAGES = 1  # every read comes here, none is answered from what the kernel kept
_READ_ONLY, _NO_SUID, _NO_DEV, _DETACH = 1, 2, 4, 2
_PIECE = 1 << 17  # bytes
_NOT_KEPT_S = 0  # names and attributes are asked for anew each time: what hangs is asked


class Answering:
    """Answers the kernel from the files of a folder."""

    def __init__(self, source: Path, device: int) -> None:
        self.device = device
        self.paths, self.numbers = {1: source}, {source: 1}
        self.stops = False
        signal.signal(signal.SIGUSR1, self.stop_soon)

    def stop_soon(self, *_: object) -> None:
        """Stop when the next piece of a file was asked for: whoever asked cannot even be killed from then on."""
        self.stops = True

    def run(self) -> None:
        """Answer until it is unmounted."""
        while True:
            try:
                asked = os.read(self.device, 2 * _PIECE)
            except OSError as error:
                if error.errno == errno.ENODEV:
                    return
                if error.errno in {errno.EINTR, errno.ENOENT}:
                    continue
                raise
            _, code, unique, node = struct.unpack_from("<IIQQ", asked)
            if code in {_FORGET, _FORGETS, _INTERRUPT}:
                continue
            if code == _READ and self.stops:
                self.stops = False
                os.kill(os.getpid(), signal.SIGSTOP)
            try:
                failed, said = 0, self.answer(code, node, asked[40:])
            except OSError as error:
                failed, said = -(error.errno or errno.EIO), b""
            with contextlib.suppress(FileNotFoundError):  # who asked has gone
                os.write(self.device, struct.pack("<IiQ", 16 + len(said), failed, unique) + said)

    def answer(self, code: int, node: int, body: bytes) -> bytes:
        """Return what the kernel asks for."""
        ways: dict[int, Callable[[Path, int, bytes], bytes]] = {
            _INIT: lambda *_: struct.pack("<4I2H2I2H8I", 7, 31, _PIECE, 0, 12, 9, _PIECE, 1, 0, 0, *[0] * 8),
            _LOOKUP: self.look_up,
            _GETATTR: lambda path, node, _: struct.pack("<QII", _NOT_KEPT_S, 0, 0) + _attributes(path, node),
            _OPEN: lambda path, *_: struct.pack("<QII", os.open(path, os.O_RDONLY), _PAST_PAGES, 0),
            _READ: lambda _path, _node, body: self.read(*struct.unpack_from("<QQI", body)),
            _READDIR: lambda path, _, body: self.listed(path, *struct.unpack_from("<QQI", body)[1:]),
            _RELEASE: lambda _path, _node, body: os.close(struct.unpack_from("<Q", body)[0]) or b"",
            _STATFS: lambda *_: struct.pack("<5Q10I", *[1 << 20] * 5, 4096, 255, 4096, *[0] * 7),
            _OPENDIR: lambda *_: struct.pack("<QII", 0, 0, 0),
        }
        if code in _NOTHING_TO_SAY:
            return b""
        if code not in ways:
            raise OSError(errno.ENOSYS, "not answered")
        return ways[code](self.paths.get(node, Path("/nonexistent")), node, body)

    def look_up(self, path: Path, _node: int, name: bytes) -> bytes:
        """Return the number and the attributes of a name in a folder."""
        child = path / os.fsdecode(name.rstrip(b"\0"))
        number = self.number(child)
        return struct.pack("<4Q2I", number, 0, _NOT_KEPT_S, _NOT_KEPT_S, 0, 0) + _attributes(child, number)

    @staticmethod
    def read(handle: int, at: int, size: int) -> bytes:
        """Return some bytes of an open file."""
        return os.pread(handle, size, at)

    def number(self, path: Path) -> int:
        """Return the number of a path, a new one where it has none."""
        if path not in self.numbers:
            path.lstat()
            self.numbers[path] = len(self.numbers) + 1
            self.paths[self.numbers[path]] = path
        return self.numbers[path]

    def listed(self, path: Path, at: int, size: int) -> bytes:
        """Return the names in a folder from one on, as many as there is room for."""
        said = b""
        for number, name in enumerate(sorted(one.name for one in path.iterdir())[at:], at + 1):
            child = path / name
            kind = stat.S_IFMT(child.lstat().st_mode) >> 12
            raw = os.fsencode(name)
            entry = struct.pack("<QQII", self.number(child), number, len(raw), kind) + raw
            entry += bytes(-len(entry) % 8)
            if len(said) + len(entry) > size:
                break
            said += entry
        return said


def _attributes(path: Path, number: int) -> bytes:
    told = path.lstat()
    times = [int(one // 10**9) for one in (told.st_atime_ns, told.st_mtime_ns, told.st_ctime_ns)]
    parts = [int(one % 10**9) for one in (told.st_atime_ns, told.st_mtime_ns, told.st_ctime_ns)]
    return struct.pack(
        "<6Q10I", number, told.st_size, told.st_blocks, *times, *parts, told.st_mode, told.st_nlink, told.st_uid,
        told.st_gid, 0, 4096, 0,
    )  # fmt: skip


def main(source: Path, target: Path) -> None:
    """Mount, say so, and answer."""
    device = os.open("/dev/fuse", os.O_RDWR)
    libc = ctypes.CDLL(None, use_errno=True)
    options = f"fd={device},rootmode=40000,user_id={os.getuid()},group_id={os.getgid()},allow_other"
    flags = _READ_ONLY | _NO_SUID | _NO_DEV
    if libc.mount(b"hanging", os.fsencode(target), b"fuse.hanging", flags, options.encode()):
        raise OSError(ctypes.get_errno(), f"{target} cannot be mounted")
    print("mounted", flush=True)
    Answering(source.resolve(), device).run()


class Mounted:
    """A mount that a test holds: it hangs from `hang` to `answer`."""

    def __init__(self, process: subprocess.Popen[str]) -> None:
        self._process = process

    def hang(self) -> None:
        """Answer nothing any more. Stopped for certain: who waits for a request that was taken cannot be ended."""
        self._process.send_signal(signal.SIGSTOP)
        status = Path(f"/proc/{self._process.pid}/stat")
        deadline = time.monotonic() + 10
        while status.read_text(encoding="ascii").rpartition(")")[2].split()[0] != "T" and time.monotonic() < deadline:
            time.sleep(0.01)

    def hang_with_a_request(self) -> None:
        """Answer nothing any more from the next request for a piece of a file on, which it takes."""
        self._process.send_signal(signal.SIGUSR1)

    def answer(self) -> None:
        """Answer again, what was asked meanwhile too."""
        self._process.send_signal(signal.SIGCONT)


@contextlib.contextmanager
def mounted(source: Path, target: Path) -> Iterator[Mounted]:
    """Mount a folder at another.

    Raises
    ------
    PermissionError
        Where nobody may mount here.
    """
    target.mkdir()
    process = subprocess.Popen([sys.executable, __file__, source, target], stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout is not None
        if process.stdout.readline().strip() != "mounted":
            raise PermissionError(f"{target} cannot be mounted here")
        yield Mounted(process)
    finally:
        process.kill()  # whoever still waits for it gets an error
        process.communicate()
        ctypes.CDLL(None).umount2(os.fsencode(target), _DETACH)


if __name__ == "__main__":
    main(Path(sys.argv[1]), Path(sys.argv[2]))
