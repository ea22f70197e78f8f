"""The Clocks page in a browser: wound by keys and wheel, another truth, one correction for all takes of a device."""

import re

from playwright.sync_api import Page, expect
from tests.conftest import name_ferry, until
from tests.web.test_deciding import day

from vesk.actions import intake
from vesk.store import recordings

__all__ = ["day"]


def test_clocks_are_wound_the_truth_is_changed_and_one_correction_is_taken_and_undone(page: Page, serve, day):
    problems: list[str] = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    page.goto(f"{serve()}/days/{day.id}/clocks")
    clocks = page.locator("#clocks")
    first = page.locator("svg.clock").first
    expect(first.locator(".mark")).to_have_count(3)
    until = clocks.get_attribute("data-until")
    page.get_by_label("slip").fill("-0.31")
    page.locator("#device-form").get_by_label("from").fill("08:00:00")
    expect(page.locator("#preview")).to_contain_text("It touches 3 takes")
    page.locator("h1").click()
    page.keyboard.press("+")
    expect(clocks).not_to_have_attribute("data-until", until)
    expect(page.get_by_label("slip")).to_have_value("-0.31")  # what is being typed stays
    first.hover()
    page.mouse.wheel(0, 400)
    page.mouse.wheel(0, 400)
    page.mouse.wheel(0, 400)
    expect(clocks).to_have_attribute("data-until", until)
    page.get_by_role("button", name="Correct them").click()
    expect(page.locator(".said")).to_contain_text("3 takes corrected by one correction.")
    expect(page.locator(".of-devices")).to_contain_text("A with S1 from 08:00:00: slip −0.31 f")
    page.locator(".of-devices").get_by_role("button", name="Undo").click()
    expect(page.locator(".said")).to_contain_text("Undone for 3 takes")
    page.get_by_role("link", name="Clocks").click()
    page.get_by_label("taken for the truth").select_option("A")
    page.get_by_role("button", name="Show against it").click()
    expect(page.locator(".figures").first).to_contain_text("taken for the truth")
    page.locator("svg.clock a").first.focus()
    page.keyboard.press("Enter")
    expect(page.locator("#bench")).to_be_visible()
    assert problems == []


def test_a_display_that_was_filmed_is_stepped_to_read_and_told(page: Page, serve, db, settings, ferry, tmp_path):
    (tmp_path / "media").symlink_to(ferry.folder)
    taken = name_ferry(db, settings, tmp_path / "media")
    intake.take_in(db, settings, taken)
    db.commit()
    number = next(row.id for row in recordings.of_day(db, taken.id) if row.name == "A006_001.mov")
    page.goto(f"{serve()}/recordings/{number}")
    picture = page.locator("#stepped")
    shown = "image => image.complete && image.naturalHeight"
    until(lambda: page.locator("#stepped").evaluate(shown) == 216, 30, "the frame in full")
    field = page.get_by_label("frame", exact=True)
    field.fill("100")
    field.press("Tab")
    for key, by in (("ArrowUp", 101), ("Shift+ArrowUp", 126), ("ArrowDown", 125)):
        field.press(key)
        expect(field).to_have_value(str(by))
        expect(picture).to_have_attribute("src", re.compile(f"/{by}.jpg"))
    page.get_by_label("−1 frames").click()
    expect(field).to_have_value("124")
    page.get_by_label("reads").fill("09:12:10:26")
    page.get_by_role("button", name="Keep it").click()
    expect(page.locator(".problem")).to_contain_text("is no label")
    page.get_by_label("frame", exact=True).fill("124")
    page.get_by_label("reads").fill("09:12:11:02")
    page.get_by_label("on", exact=True).fill("slate")
    page.get_by_role("button", name="Keep it").click()
    expect(page.locator(".displays")).to_contain_text("slate, read once in A")
