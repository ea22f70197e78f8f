"""Four thousand damaged headers: each is read or told in a sentence; none crashes its reader or hangs."""

import os
import subprocess
import sys

import numpy as np
import soundfile
from tests.conftest import PROJECT, SHORT, make_shoot

EDL = "TITLE: DAY 6\nFCM: NON-DROP FRAME\n\n" + "".join(
    f"{n:03}  A006     V     C        09:00:0{n}:00 09:00:0{n}:10 01:00:0{n}:00 01:00:0{n}:10\n"
    f"* FROM CLIP NAME: A006_00{n}.MOV\n" for n in range(1, 6)
)  # fmt: skip


def test_a_thousand_damaged_headers_are_read_or_told(tmp_path):
    (tmp_path / "shot").mkdir()
    made = make_shoot(SHORT.format(rate="25", jam="08:00:00", start="09:00:00"), tmp_path / "shot")
    folder = tmp_path / "samples"
    folder.mkdir()
    for name, ending in (("movie", ".mov"), ("wave", ".wav")):
        source = next(made.folder.rglob(f"*{ending}"))
        data = source.read_bytes()
        # A movie's index may lie at its end; of a wave its beginning is what is read.
        (folder / f"{name}{ending}").write_bytes(data if ending == ".mov" else data[:60_000])
    tone = (0.1 * np.sin(np.arange(4_000) / 9)).astype(np.float32)
    for ending in (".flac", ".aiff", ".wav"):
        soundfile.write(folder / f"tone{ending}", tone, 48_000)
    (folder / "report.csv").write_text("file,scene,take,start tc\n31A_01.wav,31A,1,09:00:00:00\n" * 9, encoding="utf-8")
    (folder / "cut.edl").write_text(EDL, encoding="utf-8")
    words = [sys.executable, "-X", "faulthandler", PROJECT / "benchmarks" / "damage.py", folder, "1000", "1"]
    done = subprocess.run(
        words, env={**os.environ, "PYTHONPATH": str(PROJECT / "src")}, capture_output=True, text=True, check=False,
        timeout=300,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    told = {line.partition(" ")[2]: int(line.partition(" ")[0]) for line in done.stdout.splitlines()}
    assert set(told) == {"read", "told", "hung"}, done.stdout
    assert told["hung"] == 0
    assert min(told["read"], told["told"]) > 100
