"""The walk in a real browser on the demo day: from the day page through the bench to a delivered file."""

import io
import re
from pathlib import Path

import pytest
import soundfile
from playwright.sync_api import Page, Route, expect
from tests.browser.conftest import LONG_MS
from tests.conftest import end, measured_takes, name_ferry, until, workers

from vesk.actions import gathering
from vesk.jobs.tasks import ask_intake
from vesk.media import wave
from vesk.media.picture_packets import same_picture
from vesk.store.session import open_session


@pytest.fixture
def served(db, settings, ferry, serve, tmp_path):
    """Serve the demo day while two workers take it in and measure it."""
    (tmp_path / "media").symlink_to(ferry.folder)
    day = name_ferry(db, settings, tmp_path / "media")
    ask_intake(db, day.id)
    db.commit()
    running = workers(settings, 2)
    try:
        yield serve(), day
    finally:
        end(running)


def error_of(page: Page, place: str) -> float:
    text = page.locator(f"#window-{place} .error").inner_text()
    return float(text.replace("\N{MINUS SIGN}", "-").removesuffix(" f"))


def errors(page: Page) -> list[float]:
    return [error_of(page, place) for place in ("head", "middle", "tail")]


def settles(page: Page, wanted: list[float], within: float = 0.015) -> None:
    def near() -> bool:
        return all(abs(a - b) <= within for a, b in zip(errors(page), wanted, strict=True))

    try:
        until(near, 30)
    except AssertionError:
        said = page.locator("#problem, #pending").all_inner_texts()
        raise AssertionError(f"head, middle and tail are {errors(page)}, not {wanted}; the page says {said}") from None


def ink(page: Page, place: str) -> int:
    """Count the pixels that are drawn in a window's canvas."""
    return page.evaluate(
        """place => { const c = document.querySelector(`#window-${place} .waves`);
        const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let n = 0;
        for (let i = 3; i < d.length; i += 4) n += d[i] > 0; return n; }""",
        place,
    )


def test_from_the_day_to_a_delivered_file(page: Page, served, settings, db):
    address, day = served
    problems: list[str] = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    page.goto(f"{address}/")
    # Live: the page follows the workers without being loaded again.
    expect(page.locator("h1")).to_have_text(
        re.compile(r"9 camera takes: 1 holds, 7 need you, 1 has no sound"), timeout=LONG_MS
    )
    expect(page.locator("#progress.open")).to_have_count(0, timeout=LONG_MS)
    rows = page.locator("#ledger tbody tr")
    expect(rows).to_have_count(12)
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    page.get_by_role("link", name=re.compile("^unpaired")).click()
    expect(rows).to_have_count(2)
    expect(page.locator("#ledger")).to_contain_text("no recorder was rolling 11:48:02:21")
    page.get_by_role("link", name=re.compile("^all")).click()
    # By keys alone: down to the drifting take, and open it.
    drifting = page.locator("#ledger tbody tr", has_text="B004_001")
    for _ in range(12):
        page.keyboard.press("ArrowDown")
        if drifting.evaluate("row => row === document.activeElement"):
            break
    page.keyboard.press("Enter")
    expect(page.locator("#verdict")).to_contain_text("B's clock runs 66.2 ppm slow against S1")
    _bench(page)
    # Sign it off and hand it over.
    page.keyboard.press("c")
    expect(page.locator("#state")).to_contain_text("checked")
    page.keyboard.press("5")
    expect(page.locator("h1")).to_have_text("1 of 10 takes can be handed over")
    page.wait_for_load_state()  # keys work once the page's scripts have run
    _recipe(page)
    page.keyboard.press("m")
    link = page.get_by_role("link", name="B004_001.wav")
    expect(link).to_be_visible(timeout=LONG_MS)
    expect(page.locator(".first-line")).to_contain_text("Every file holds, measured again")
    movie = page.get_by_role("link", name="movies/B004_001.mov")
    with page.expect_download() as download:
        movie.click()
    assert same_picture(download.value.path(), next(Path(day.folder).rglob("B004_001.mov")))
    with page.expect_download() as download:
        link.click()
    path = download.value.path()
    header = wave.read_header(path)
    assert (header.samples, header.channels) == (180 * 48_000, 1)
    assert header.bext.time_reference == ((10 * 60 + 2) * 60 + 47) * 48_000 + 19 * 1920
    assert "<SCENE>32</SCENE>" in header.ixml
    sound, _ = soundfile.read(path, always_2d=True)
    assert abs(sound[100_000:]).max() > 0.01
    with open_session(settings.sqlalchemy_url) as fresh:
        from vesk.store import turnovers

        (made,) = turnovers.of_day(fresh, day.id)
        one, _ = [item for item in turnovers.deliveries(fresh, made.id) if item.name]
        assert max(map(abs, one.written.residual_s)) < 0.0005
    with page.expect_download() as download:
        page.get_by_role("link", name="report.csv").first.click()
    assert b"B004_001.mov" in download.value.path().read_bytes()
    page.keyboard.press("6")
    expect(page.locator("#journal")).to_contain_text("turnover of 1 takes made")
    assert not problems


def _recipe(page: Page) -> None:
    """Ask for movies too: what it would make is said as it is filled in."""
    would = page.locator("#would")
    page.get_by_label("movies with good sound").check()
    expect(would).to_contain_text("1 movie, picture as it is, good sound first")
    page.get_by_label("named").fill("{scene}_{camera}")
    expect(would).to_contain_text("sound/32_B.wav")
    page.get_by_label("named").fill("{picture}")
    expect(would).to_contain_text("sound/B004_001.wav")
    page.locator("h1").click()


FILM = """place => { const c = document.querySelector(`#window-${place} .film`);
        const seen = c.getContext('2d').getImageData(0, 0, c.width, c.height).data;
        return c.width > 300 && new Set(seen).size > 40; }"""


# In one breath, whatever a starved machine takes between two keys: else they would be two slips.
THREE_KEYS = """() => { for (const given of [{ key: 'ArrowRight', shiftKey: true }, { key: 'ArrowLeft' },
        { key: 'ArrowRight', ctrlKey: true }])
        document.body.dispatchEvent(new KeyboardEvent('keydown', { bubbles: true, cancelable: true, ...given })); }"""


def _bench(page: Page) -> None:
    before = errors(page)
    assert before[0] < before[1] < before[2]
    assert before[2] == pytest.approx(0.28, abs=0.02)
    until(lambda: ink(page, "head") > 2000, 15, "the waveform")
    until(lambda: page.locator("#window-tail .strip img").evaluate_all("all => all.every(i => i.naturalWidth > 0)"), 15)
    until(lambda: all(page.evaluate(FILM, place) for place in ("head", "middle", "tail")), 15)
    # Zoom from ten seconds to single samples: something is drawn at every level.
    page.locator("[data-zoom='10']").click()
    for _ in range(15):
        page.keyboard.press("+")
        page.wait_for_timeout(220)
        assert ink(page, "middle") > 300
    page.locator("[data-zoom='5f']").click()
    page.wait_for_timeout(400)
    # Slip by keys: frames, tenths and samples; all three windows move together.
    page.evaluate(THREE_KEYS)
    settles(page, [error + 0.9 for error in before])
    expect(page.locator("#state")).to_contain_text("corrected")
    expect(page.locator(".history li")).to_have_count(1)
    expect(page.locator("#slip")).to_have_value("0.9005")  # one sample is 1/1920 frame
    # By dragging: half a frame of five across a window's width.
    box = page.locator("#window-middle .waves").bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] * 0.75
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - box["width"] / 10, y, steps=8)
    page.mouse.up()
    settles(page, [error + 0.4 for error in before], within=0.04)
    page.keyboard.press("u")
    settles(page, [error + 0.9 for error in before])
    page.keyboard.press("u")
    settles(page, before)
    # The proposal brings the three windows together.
    page.keyboard.press("t")
    settles(page, [0.0, 0.0, 0.0], within=0.01)
    expect(page.locator("#verdict")).to_contain_text("In sync")
    # Listen: the server lays and mixes, the browser plays.
    with page.expect_response(lambda answer: "/media/listen/" in answer.url) as heard:
        page.keyboard.press("e")
    sound, rate = soundfile.read(io.BytesIO(heard.value.body()))
    assert sound.shape == (round(2.4 * rate), 2)
    # One's own figures, and back.
    page.locator("#slip").fill("-1.5")
    page.locator("#slip").press("Enter")
    settles(page, [-1.5, -1.5, -1.5], within=0.01)
    # A hand that is faster than the server: the second act waits for the answer to the first.
    held: list[Route] = []

    def hold(route: Route) -> None:
        held.append(route)

    page.route("**/own", hold)
    page.locator("#slip").fill("-2")
    page.locator("#slip").press("Enter")
    page.locator("h1").click()
    page.keyboard.press("u")
    page.wait_for_timeout(300)
    held[0].continue_()
    settles(page, [-1.5, -1.5, -1.5], within=0.01)
    expect(page.locator(".history li.undone")).to_have_count(3)
    page.unroute("**/own")
    page.keyboard.press("u")
    settles(page, [0.0, 0.0, 0.0], within=0.01)


def test_two_people_and_a_stale_page(page: Page, serve, settings, db, ferry, context, tmp_path):
    day = measured_takes(db, settings, ferry, tmp_path / "media", "B*", "A006_00[3-9]*", "3[2-9]*", "*.csv", "*.txt")
    pairing = gathering.of_day(db, day)[0].pairing.id
    address = serve()
    page.goto(f"{address}/bench/{pairing}")
    other = context.new_page()
    other.goto(f"{address}/bench/{pairing}")
    other.keyboard.press("t")
    expect(other.locator("#state")).to_contain_text("corrected")
    page.keyboard.press("c")
    expect(page.locator("#problem")).to_contain_text("Somebody else changed this pairing")
    expect(page.locator("#state")).to_contain_text("corrected")  # shown as it is now
    # A server that is away for a moment: the slip is kept on the page, and sent when it is back.
    before = errors(page)
    page.route("**/slip", lambda route: route.abort())
    page.keyboard.press("Shift+ArrowRight")
    expect(page.locator("#pending")).to_contain_text("Your slip is kept here")
    page.unroute("**/slip")
    expect(page.locator(".history li:not(.undone)")).to_have_count(2)
    settles(page, [error + 1 for error in before])
    page.keyboard.press("u")
    settles(page, before)
    # Several takes together, from the day, and the night theme that stays.
    page.goto(f"{address}/days/{day.id}/")
    page.locator("#pick-all").check()
    page.keyboard.press("t")
    expect(page.locator(".said")).to_contain_text("2 corrected as proposed")
    expect(page.locator("h1")).to_contain_text("2 hold, 0 need you")
    page.locator("h1").click()
    page.keyboard.press("n")
    page.reload()
    assert page.locator("html").get_attribute("data-theme") == "night"
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("walk the ledger")
