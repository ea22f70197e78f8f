"""Intake in a real browser: clocks, facts put right by keys, a clap confirmed, things meant so, a second intake."""

import os
import shutil
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect
from tests.browser.conftest import LONG_MS
from tests.conftest import end, name_ferry, workers

from vesk.jobs.tasks import ask_intake


@pytest.fixture
def served(db, settings, afternoon, serve, tmp_path):
    """Serve the afternoon without its longest take, taken in by a worker."""
    folder = tmp_path / "media"
    shutil.copytree(
        afternoon.folder,
        folder,
        copy_function=os.link,
        ignore=shutil.ignore_patterns("A006_0*", "STE-004*", "39_01*"),
    )
    day = name_ferry(db, settings, folder)
    ask_intake(db, day.id)
    db.commit()
    running = workers(settings, 1)
    try:
        yield serve(), folder
    finally:
        end(running)


def row(page: Page, name: str):
    return page.locator("#ledger tbody tr", has_text=name)


def test_a_day_that_is_not_clean_is_put_in_order(page: Page, served):
    address, folder = served
    problems: list[str] = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    page.goto(f"{address}/days/1/intake")
    # Live: timecode on the sound channel is heard, and the page follows.
    expect(row(page, "C002_001")).to_contain_text("13:52:10:00", timeout=LONG_MS)
    expect(page.locator("#progress.open")).to_have_count(0, timeout=LONG_MS)
    assert page.evaluate("document.documentElement.scrollWidth") <= 1280
    expect(page.locator(".odd")).to_contain_text("header is 1 h 2 min behind")
    # A person's clock moves the source, and back.
    clock = page.get_by_label("Clock of C", exact=True)
    clock.select_option("header")
    page.locator("tr", has=clock).get_by_role("button", name="Set").click()
    expect(page.locator(".said")).to_have_text("C is trusted by its header.")
    expect(row(page, "C002_001")).to_contain_text("12:50:06:13")
    clock.select_option("")
    page.locator("tr", has=clock).get_by_role("button", name="Set").click()
    expect(row(page, "C002_001")).to_contain_text("13:52:10:00")
    _together(page)
    _run(page)
    _names(page, address)
    # What is meant so goes down the list, with its note.
    leak = page.locator(".odd tr", has_text="leaks into channel 2").first
    leak.get_by_placeholder("why").fill("short cable")
    leak.get_by_role("button", name="Meant so").click()
    expect(page.locator(".odd tr.aside")).to_contain_text("short cable")
    _clap(page)
    _again(page, folder)
    assert not problems


def _together(page: Page) -> None:
    """Several at once, by keys: both takes of a camera are put right, then set aside and brought back."""
    # A range: from the box set last to the one set with Shift.
    boxes = page.locator("#ledger tbody .pick input")
    boxes.nth(1).click()
    boxes.nth(4).click(modifiers=["Shift"])
    expect(page.locator("#picked")).to_have_text("4 selected")
    boxes.nth(4).click()
    boxes.nth(1).click(modifiers=["Shift"])
    expect(page.locator("#picked")).to_have_text("none selected")
    page.get_by_role("link", name="C 2", exact=True).click()
    expect(page.locator("#ledger tbody tr")).to_have_count(2)
    page.locator("#pick-all").check()
    expect(page.locator("#picked")).to_have_text("2 selected")
    page.get_by_label("Value, or reason").fill("37X")
    page.locator("#pick-all").focus()
    page.keyboard.press("p")
    expect(page.locator(".said")).to_have_text("scene of 2 put right.")
    expect(page.locator("#ledger")).to_contain_text("37X")
    # Nothing typed or ticked for the last thing is taken for the next.
    expect(page.locator("#picked")).to_have_text("none selected")
    page.locator("#pick-all").check()
    page.locator("#pick-all").focus()
    page.keyboard.press("a")
    expect(page.locator("#intake > .problem")).to_contain_text("Say why")
    page.get_by_label("Value, or reason").fill("rehearsal")
    page.locator("#pick-all").focus()
    page.keyboard.press("a")
    expect(row(page, "C002_002")).to_contain_text("set aside rehearsal")
    page.locator("#pick-all").check()
    page.locator("#pick-all").focus()
    page.keyboard.press("b")
    expect(page.locator(".said")).to_have_text("2 brought back.")
    page.locator(".filters").get_by_role("link", name="all", exact=False).first.click()


def _run(page: Page) -> None:
    """Parts of one recording were taken together; by keys they are taken apart and together again."""
    run = row(page, "clip0017-0019.mov")
    expect(run).to_contain_text("run of 3")
    page.get_by_role("link", name="E 1", exact=True).click()
    expect(page.locator("#ledger tbody tr")).to_have_count(1)
    page.locator("#pick-all").check()
    page.locator("#pick-all").focus()
    page.keyboard.press("t")
    expect(page.locator(".said")).to_contain_text("clip0017-0019.mov taken apart")
    expect(page.locator("#ledger tbody tr")).to_have_count(3)
    page.locator("#pick-all").check()
    page.locator("#pick-all").focus()
    page.keyboard.press("r")
    expect(page.locator(".said")).to_contain_text("clip0017-0019.mov is one recording now")
    expect(page.locator("#ledger tbody tr")).to_have_count(1)
    page.get_by_role("link", name="E", exact=True).click()
    expect(page.locator("#source table tbody tr")).to_have_count(1)
    page.get_by_role("link", name="clip0017-0019.mov").click()
    expect(page.get_by_role("heading", name="Made of 3 files")).to_be_visible()
    page.goto(page.url.split("/recordings")[0] + "/days/1/intake")


def _names(page: Page, address: str) -> None:
    """What a pattern catches is seen while it is typed, and kept only when saved."""
    page.get_by_role("link", name="File names").click()
    expect(page.locator("#caught")).to_contain_text("E small deck/clip0017.mov")
    patterns = page.get_by_label("Patterns")
    patterns.press("Control+End")
    patterns.press_sequentially("\nclip{clip}")
    expect(page.locator("#caught tr", has_text="clip0018")).to_contain_text("clip 0018")
    patterns.press_sequentially("{clip}")
    expect(page.locator("#caught .problem")).to_contain_text("stands twice")
    page.goto(f"{address}/days/1/names")
    expect(page.locator("#caught tr", has_text="clip0018")).to_contain_text("nothing")
    page.goto(f"{address}/days/1/intake")


def _clap(page: Page) -> None:
    """The frame that shows the sticks closed is confirmed on the recording's own page."""
    # By its address: the page may be laid anew while it is clicked.
    page.goto(page.url.split("/days/")[0] + str(row(page, "C002_001").get_by_role("link").get_attribute("href")))
    expect(page.locator(".channels")).to_contain_text("LTC")
    page.locator(".frame.chosen").first.click()
    expect(page.locator(".clap").first).to_contain_text("confirmed closed on frame 53, by test editor")
    page.go_back()
    expect(page.get_by_role("button", name="Take the middle")).to_be_visible()
    page.get_by_role("button", name="Take the middle").click()
    expect(page.locator(".said")).to_contain_text("Source C: -")


def _again(page: Page, folder: Path) -> None:
    """A second intake: what is new comes in, what vanished is told, what was decided stays."""
    shutil.copy(folder / "S1 sound roll 6" / "37_01.wav", folder / "S1 sound roll 6" / "37_01 again.wav")
    (folder / "S1 sound roll 6" / "37_02 copy.wav").unlink()
    page.get_by_role("button", name="Take the folder in again").click()
    expect(page.locator(".odd")).to_contain_text(
        "37_01 again.wav is S1 sound roll 6/37_01.wav once more", timeout=LONG_MS
    )
    expect(page.locator(".odd")).to_contain_text("37_02 copy.wav: it was here before and is gone")
    expect(page.locator(".odd tr.aside")).to_contain_text("short cable")
    expect(row(page, "C002_001")).to_contain_text("37X")
