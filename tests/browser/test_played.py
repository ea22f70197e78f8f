"""A movie that was handed over, played by a browser: its clap is seen when its clap is heard."""

import io
import threading
from pathlib import Path

import av
import pytest
from flask import Flask, send_file
from playwright.sync_api import Page
from tests.browser.test_watching import CAMERA, COUNTER, counters, read
from tests.conftest import SHORT, make_shoot, named_day
from werkzeug.serving import make_server

from vesk.actions import correct, gathering, intake, measuring, package, pairing, turnover
from vesk.core.handover.recipe import Recipe

PAGE = "<!doctype html><video src='{which}.mp4' preload='auto'></video><canvas width='384' height='216'></canvas>"
PLAY = """async () => {
  const film = document.querySelector('video'), canvas = document.querySelector('canvas');
  const context = new AudioContext();
  const ears = context.createAnalyser();
  ears.fftSize = 32768;
  context.createMediaElementSource(film).connect(ears);
  ears.connect(context.destination);
  const heard = new Float32Array(ears.fftSize), seen = [];
  let clap = null, over = false;
  const look = () => {
    canvas.getContext('2d', { willReadFrequently: true }).drawImage(film, 0, 0, 384, 216);
    seen.push([context.currentTime - (context.outputLatency || context.baseLatency || 0), window.counter(canvas)]);
    ears.getFloatTimeDomainData(heard);
    const at = heard.findIndex((value) => Math.abs(value) > 0.05);
    if (at >= 0 && clap === null) clap = context.currentTime - (heard.length - at) / context.sampleRate;
    if (clap !== null && seen.at(-1)[0] > clap + 0.5) over = true;
    if (!over) film.requestVideoFrameCallback(look);
  };
  film.requestVideoFrameCallback(look);
  film.currentTime = 0;
  await film.play();
  for (let k = 0; k < 150 && !over; k += 1) await new Promise((then) => setTimeout(then, 100));
  film.pause();
  await context.close();
  return { clap, seen };
}"""


@pytest.fixture
def films(db, settings, tmp_path):
    """Hand over a movie of a camera whose label is eight frames off; bring it, and what was shot, to a browser.

    Browsers play no 24-bit sound beside a picture: it is coded for them, the pictures and every time stay as they are.
    """
    text = SHORT.format(rate="25", jam="07:30:00", start="10:00:01:00")
    device, shot = text.split("[[shot]]")
    device += CAMERA.format(tag="B", phase=0.3, off=0.32, jam="07:30:00")
    shot = shot.replace("to = 9.0 }", 'to = 9.0 }, { source = "B", from = 0.2, to = 8.6 }')
    shoot = make_shoot(f"{device}[[shot]]{shot}", tmp_path)
    day = named_day(db, settings, shoot.folder)
    intake.take_in(db, settings, day)
    for number in pairing.pair_day(db, day):
        measuring.measure_pairing(db, settings, number)
    now = next(one for one in gathering.of_day(db, day) if one.picture.name.startswith("B"))
    assert abs(now.errors.middle_s) > 0.25
    correct.take_proposal(db, settings, now.pairing.id, version=now.pairing.version)
    correct.check(db, settings, now.pairing.id, version=now.pairing.version)
    row = turnover.plan(db, settings, day, Recipe(movies=True))
    db.commit()
    package.make(db, settings, row.id)
    (made,) = Path(row.folder, "movies").iterdir()
    shot = next(shoot.folder.rglob(now.picture.name))
    return [_for_browser(path, tmp_path / f"{number}.mp4") for number, path in enumerate((shot, made))]


def _for_browser(path: Path, to: Path) -> bytes:
    with av.open(str(path)) as source, av.open(str(to), "w") as target:
        picture, sound = source.streams.video[0], source.streams.audio[0]
        shown = target.add_stream_from_template(picture)
        coded = target.add_stream("aac", rate=sound.rate, layout="stereo")
        for packet in source.demux(picture, sound):
            if packet.stream is sound:
                for frame in packet.decode():
                    target.mux(coded.encode(frame))
            elif packet.size:
                packet.stream = shown
                target.mux(packet)
        target.mux(coded.encode(None))
    return to.read_bytes()


def _apart(page: Page, address: str, known) -> tuple[float, float]:
    """Play a film; return which frame is seen when its clap is heard, and how many frames away that was looked."""
    page.goto(address)
    told = page.evaluate(PLAY)
    assert told["clap"] is not None
    shown = [(at, frame) for at, bits in told["seen"] if (frame := read(bits, known)) is not None]
    at, frame = min(shown, key=lambda one: abs(one[0] - told["clap"]))
    return frame + (told["clap"] - at) * 25, abs(told["clap"] - at) * 25


def test_a_movie_is_played_and_its_clap_is_seen_when_it_is_heard(page: Page, films):
    """The camera's own sound lies on its picture: the browser shows both films alike, however late it plays sound."""
    app = Flask("player")
    app.add_url_rule("/<int:which>", "page", lambda which: PAGE.format(which=which))
    app.add_url_rule(
        "/<int:which>.mp4", "film",
        lambda which: send_file(io.BytesIO(films[which]), "video/mp4", conditional=True),
    )  # fmt: skip
    server = make_server("127.0.0.1", 0, app, threaded=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    known, apart = counters(250), []
    try:
        page.add_init_script(COUNTER)
        for _ in range(4):  # a machine that has too much to do shows pictures late now and then
            own, made = (_apart(page, f"http://127.0.0.1:{server.server_port}/{which}", known) for which in (0, 1))
            apart.append((own, made))
            if max(own[1], made[1]) < 1 and abs(made[0] - own[0]) <= 1:
                break
        assert abs(made[0] - own[0]) <= 1, apart
    finally:
        server.shutdown()
        server.server_close()
