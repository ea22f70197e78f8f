"""The Clocks page in a browser: wound by keys and wheel, another truth, one correction for all takes of a device."""

from playwright.sync_api import Page, expect
from tests.web.test_deciding import day

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
    expect(page.locator(".of-devices")).to_contain_text("A with S1: slip −0.31 f")
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
