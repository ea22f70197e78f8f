"""Every page by machine: what a screen reader meets, and long lists that arrive as they are wanted."""

from datetime import timedelta

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import Page, expect
from sqlmodel import select
from tests.paper_day import paper_day, picture, recording, sound

from vesk.actions import pairing, reports
from vesk.core.kinds import ReportKind, Work, WorkState
from vesk.store import days, pairings, progress
from vesk.store.tables import Day

ONLY_FAULTS = {"resultTypes": ["violations"]}  # what passed is not gathered: it is most of the work


@pytest.fixture
def takes():
    return 120


@pytest.fixture
def template(made_once, takes):
    def make(db, _settings):
        files = {f"A/A001_{n:03}.mov": picture(f"{8 + n // 20:02}:{3 * (n % 20):02}:00:00") for n in range(takes)}
        files |= {f"S1/{n}_01.wav": sound(f"{8 + n // 20:02}:{3 * (n % 20):02}:01:00") for n in range(takes)}
        pairing.pair_day(db, paper_day(db, {**files, "S1/odd.wav": sound("")}))

    return made_once(f"pages_{takes}", make)


@pytest.fixture
def day(db):
    return db.exec(select(Day)).one()


def addresses(db, day):
    camera = days.sources(db, day.id)[0]
    pair = pairings.of_day(db, day.id)[0]
    one = recording(db, day, "A001_003.mov")
    return [
        f"/days/{day.id}/", f"/days/{day.id}/intake", f"/bench/{pair.id}", f"/days/{day.id}/turnover",
        f"/days/{day.id}/journal", f"/days/{day.id}/reports", f"/days/{day.id}/naming", f"/sources/{camera.id}/all",
        f"/recordings/{one.id}", f"/days/{day.id}/clocks", f"/days/{day.id}/elsewhere",
        f"/days/{day.id}/watching/{pair.picture_id}",
        "/new", "/days/999/", "/", "/home", "/find?words=A001_003", "/sign-in",
        f"/days/{day.id}/joining/?picture={pair.picture_id}&sound={pair.sound_id}",
    ]  # fmt: skip


@pytest.mark.parametrize("takes", [6])  # every kind of row is there once
def test_no_page_has_a_serious_fault_for_who_cannot_see_or_use_a_mouse(page: Page, db, settings, serve, day):
    text = "file,scene\n3_01.wav,3\n"
    reports.take_up(db, settings, day, name="r.csv", text=text, kind=ReportKind.SOUND)
    db.commit()
    address = serve()
    found = []
    by_day = addresses(db, day)[:6]
    for path in addresses(db, day):
        page.goto(address + path)
        # Colours by day are looked at where most kinds of rows are; by night, with all else, everywhere.
        faults = []
        if path in by_day:
            faults = Axe().run(page, options=ONLY_FAULTS | {"runOnly": ["color-contrast"]}).response["violations"]
        page.locator("#night").click()
        expect(page.locator("html")).to_have_attribute("data-theme", "night")
        faults += Axe().run(page, options=ONLY_FAULTS).response["violations"]
        page.evaluate("localStorage.removeItem('vesk-theme')")
        for fault in faults:
            if fault["impact"] in {"serious", "critical"}:
                where = [node["html"][:140] for node in fault["nodes"][:2]]
                found.append(f"{path}: {fault['id']} x{len(fault['nodes'])}: {where}")
    assert "\n".join(found) == ""


def rows(page: Page):
    return page.locator("#ledger tbody tr")


def test_a_long_list_arrives_as_it_is_wanted(page: Page, serve, db, day):
    address = serve()
    # Nothing rests here: what arrives was asked for.
    page.add_init_script("window.requestIdleCallback = () => 0; delete window.requestIdleCallback;")
    page.add_init_script("window.setTimeout = ((real) => (f, ms) => ms >= 200 ? 0 : real(f, ms))(window.setTimeout)")
    page.goto(f"{address}/days/{day.id}/intake")
    expect(rows(page)).to_have_count(36)
    expect(page.locator("#rest")).to_contain_text("205 more rows")
    page.mouse.wheel(0, 4000)
    expect(rows(page)).to_have_count(136)
    page.keyboard.press("Control+f")  # find in page finds every row
    expect(rows(page)).to_have_count(241)
    expect(page.locator("#rest")).to_have_count(0)
    # By keys to the end of what is here, and on.
    page.goto(f"{address}/days/{day.id}/")
    expect(rows(page)).to_have_count(36)
    rows(page).nth(35).focus()
    page.keyboard.press("ArrowDown")
    expect(rows(page).nth(36)).to_be_focused()
    expect(rows(page)).to_have_count(121)
    # All are selected, those that had not arrived too; and what is laid anew keeps its rows.
    page.goto(f"{address}/days/{day.id}/")
    page.get_by_label("Select all rows shown").check()
    expect(page.locator("#picked")).to_have_text("120 selected")
    page.get_by_role("button", name="Mark the selected as checked").click()
    expect(page.locator(".said")).to_contain_text("120 marked as checked.")
    expect(rows(page)).to_have_count(121)


def test_the_chart_is_walked_by_keys(page: Page, serve, db, day):
    address = serve()
    page.goto(f"{address}/days/{day.id}/")
    here = page.locator(".chart a:focus rect")
    page.locator(".chart a").first.focus()
    first = here.get_attribute("data-recording")
    page.keyboard.press("ArrowRight")
    assert here.get_attribute("data-recording") != first
    page.keyboard.press("ArrowDown")
    expect(here).to_have_class("block sound")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("ArrowLeft")
    assert here.get_attribute("data-recording") == first
    page.keyboard.press("Enter")
    expect(page.locator("#bench")).to_be_visible()


def test_the_chart_goes_from_the_day_to_a_take_and_stays_there_while_the_page_lives(page: Page, serve, db, day):
    page.goto(f"{serve()}/days/{day.id}/")
    chart = page.locator(".chart-scroll .chart")
    whole = int(chart.get_attribute("width"))
    first = page.locator(".chart a rect").first
    narrow = float(first.get_attribute("width"))
    for _ in range(3):
        page.keyboard.press("+")
        page.wait_for_timeout(200)
    expect(chart).to_have_attribute("width", str(8 * whole))
    assert float(first.get_attribute("width")) > 5 * narrow
    page.evaluate("document.querySelector('.chart-scroll').scrollLeft = 3000")
    page.get_by_label("Select all rows shown").check()
    page.get_by_role("button", name="Mark the selected as checked").click()
    expect(page.locator(".said")).to_be_visible()
    expect(chart).to_have_attribute("width", str(8 * whole))  # what was just done does not throw it back
    page.get_by_label("further").click()
    expect(chart).to_have_attribute("width", str(4 * whole))
    page.set_viewport_size({"width": 1600, "height": 900})
    expect(chart).not_to_have_attribute("width", str(4 * whole))


def test_single_keys_are_switched_off_for_who_speaks_to_the_machine(page: Page, serve, db, day):
    address = serve()
    page.goto(f"{address}/days/{day.id}/")
    page.keyboard.press("?")
    page.get_by_label("single letters, digits and signs act as keys here").uncheck()
    page.get_by_role("button", name="Close").click()
    for key in ("2", "n", "?"):
        page.keyboard.press(key)
    assert page.url.endswith(f"/days/{day.id}/")
    expect(page.locator("html")).to_have_attribute("data-theme", "paper")
    expect(page.locator("#keys")).not_to_be_visible()
    page.keyboard.press("ArrowDown")  # keys that are no letter still walk the ledger
    expect(rows(page).first).to_be_focused()
    page.goto(f"{address}{f'/bench/{pairings.of_day(db, day.id)[0].id}'}")
    page.keyboard.press("]")
    page.wait_for_timeout(300)
    expect(page.locator("#before")).to_have_count(0)
    page.get_by_role("button", name="Keys").click()  # by hand they are to be had, and switched on again
    page.get_by_label("single letters, digits and signs act as keys here").check()
    page.keyboard.press("Escape")
    page.keyboard.press("1")
    expect(page.locator("#ledger")).to_be_visible()


def test_the_page_follows_the_work_and_keeps_what_was_scrolled_to(page: Page, serve, db, day):
    address = serve()
    page.goto(f"{address}/days/{day.id}/")
    expect(rows(page)).to_have_count(121)  # the rest arrives by itself
    progress.open_one(db, day_id=day.id, kind=Work.MERGE, subject_id=day.id, what="looking which files are one")
    row = progress.find(db, Work.MERGE, day.id)
    progress.set_state(db, row, WorkState.RUNNING, done=3, total=4)
    row.opened_at -= timedelta(minutes=9)
    db.commit()
    expect(page.locator("#progress")).to_contain_text("looking which files are one (3 of 4)")
    expect(page.locator("#progress")).to_contain_text("0 of 1 done, about 3 minutes left")
    expect(page.get_by_role("progressbar")).to_have_attribute("aria-valuenow", "75")
    one = pairings.of_day(db, day.id)[100]
    one.state, one.reason = pairings.SET_ASIDE, "a person said so"
    progress.set_state(db, row, WorkState.DONE, done=4, total=4)
    db.commit()
    expect(page.locator("#ledger")).to_contain_text("a person said so")
    expect(rows(page)).to_have_count(121)
