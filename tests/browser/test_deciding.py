"""What is left to decide, in a real browser with real files: a contradiction seen, settled and taken back; joining."""

import re
import shutil
from fractions import Fraction

import pytest
from playwright.sync_api import Page, expect
from tests.conftest import name_ferry, until

from vesk.actions import gathering, intake, measuring, pairing, sync_points
from vesk.store import recordings

ALL_SHOWN = "[...document.querySelectorAll('.joined img')].every(image => image.complete)"


@pytest.fixture
def day(db, settings, afternoon, tmp_path):
    """Camera C, whose own sound is a frame early, with what the recorder heard: listened to, measured, claps found."""
    others = ("A006*", "D001*", "E small*", "S2*", "39*", "WT*", "clip*", "*.csv", "*.txt")
    shutil.copytree(afternoon.folder, tmp_path / "media", ignore=shutil.ignore_patterns(*others))
    named = name_ferry(db, settings, tmp_path / "media")
    intake.take_in(db, settings, named)
    for row in recordings.ready_of_day(db, named.id):
        measuring.listen(db, settings, row.id)
    for pairing_id in pairing.pair_day(db, named):
        measuring.measure_pairing(db, settings, pairing_id)
    for row in recordings.ready_of_day(db, named.id):
        sync_points.keep_sync_points(db, settings, row.id)
    db.commit()
    return named


def test_a_contradiction_is_seen_settled_for_all_its_takes_and_taken_back(page: Page, db, serve, day):
    address = serve()
    page.goto(f"{address}/days/{day.id}/")
    asked = page.locator(".decisions")
    expect(asked).to_contain_text(re.compile(r"C hears (0\.9\d|1\.00) frame early"))
    expect(asked).to_contain_text("against its own picture, say its LTC and 2 of 2 claps: 2 takes")
    # Together with others it is not done, whoever selects it.
    page.locator("#pick-all").check()
    page.get_by_role("button", name="Mark the selected as checked").click()
    expect(page.locator(".problem").first).to_contain_text("its evidence disagrees")
    # On the bench the scratch is drawn, not the timecode beside it, and both figures stand.
    asked.get_by_role("link", name="look at a take").click()
    expect(page.locator("#verdict")).to_contain_text("Along the scratch the sound is")
    expect(page.locator("table.evidence")).to_contain_text("standard deviations from where the day places it")
    assert page.evaluate("JSON.parse(document.getElementById('bench-state').textContent).picture.channel") == 1
    page.go_back()
    page.get_by_role("button", name=re.compile("^Take it out")).click()
    expect(page.locator(".said")).to_contain_text("as you said; everything of it follows")
    expect(page.locator("#ledger tbody tr .verdict").first).to_contain_text("within tolerance")
    expect(page.locator("#ledger tbody tr .verdict small").first).to_have_text("timecode + sound + sync point")
    expect(asked).to_have_count(0)
    source = gathering.of_day(db, day)[0].picture_source
    page.goto(f"{address}/sources/{source.id}/all")
    page.get_by_role("button", name="Take that back").click()
    expect(page.locator(".said")).to_contain_text("is taken back")
    page.goto(f"{address}/days/{day.id}/")
    expect(asked).to_contain_text("C hears")


def test_a_picture_and_a_sound_are_joined_by_the_keyboard_alone(page: Page, db, serve, day):
    now = next(one for one in gathering.of_day(db, day) if one.picture.name == "C002_001.mov")
    problems: list[str] = []
    page.on("pageerror", lambda error: problems.append(str(error)))
    address = serve()
    # Two are chosen where they are seen: whole devices by their tags, a row and a block of the chart by a key.
    page.goto(f"{address}/days/{day.id}/")
    page.locator(".chart.tags .lane:has(.tag:text-is('C'))").click()
    expect(page.locator(".chart.tags .lane[aria-pressed=true]")).to_have_count(1)
    page.locator(".chart.tags .lane[data-kind=sound]").first.press("Enter")
    expect(page).to_have_url(re.compile(r"joining/\?camera=\d+&recorder=\d+$"))
    expect(page.locator("#join-picture")).to_be_focused()
    page.goto(f"{address}/days/{day.id}/")
    page.locator(f"#ledger tr[data-recording='{now.picture.id}']").press("j")
    page.locator(".chart a", has=page.locator(f".block[data-recording='{now.sound.id}']")).press("j")
    expect(page).to_have_url(re.compile(rf"joining/\?picture={now.picture.id}&sound={now.sound.id}$"))
    page.goto(f"{address}/days/{day.id}/joining/?picture={now.picture.id}&sound={now.sound.id}")
    expect(page.locator("#join-picture")).to_be_focused()
    for key in [*["Shift+ArrowRight"] * 5, *["ArrowRight"] * 3]:
        page.keyboard.press(key)
        page.wait_for_timeout(50)
        until(lambda: page.evaluate(ALL_SHOWN), 20, "the frames")  # a picture that is let go of half way is no test
    expect(page.locator("input[name=picture_at]")).to_have_value("frame 53")
    expect(page.locator("#join-picture .now")).to_have_attribute("src", re.compile(r"/frame/53\.jpg$"))
    page.keyboard.press("Tab")  # its own field
    page.keyboard.press("Tab")
    expect(page.locator("#join-sound")).to_be_focused()
    page.keyboard.press("Tab")
    page.keyboard.press("Control+a")
    page.keyboard.type("4.5")
    expect(page.locator("#said")).to_contain_text("37_01.wav begins 2.380 s before C002_001.mov")
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("ArrowRight")  # a hundredth of what is shown
    expect(page.locator("input[name=sound_at]")).to_have_value("4.5200")
    expect(page.locator("#said")).to_contain_text("begins 2.400 s before")
    page.keyboard.press("Enter")
    expect(page.locator("h1")).to_contain_text("37")
    expect(page.locator(".mark-state, .state").first).to_contain_text("corrected")
    db.expire_all()
    assert gathering.of_pairing(db, now.pairing.id).laid.offset == Fraction(53, 25) - Fraction("4.52")
    assert problems == []


@pytest.fixture
def card(db, settings, ferry, tmp_path):
    """Everything of the morning that A, B and the recorder made, in one flat folder, as a card is dropped in."""
    flat = tmp_path / "media"
    flat.mkdir()
    for file in sorted(ferry.folder.rglob("*")):
        if file.match("A006_00[12].mov") or file.match("A006_005.mov") or file.match("3[14]*.wav"):
            shutil.copy2(file, flat)
    named = name_ferry(db, settings, flat)
    named.tolerance = Fraction(1, 10)
    intake.take_in(db, settings, named)
    for row in recordings.ready_of_day(db, named.id):
        measuring.listen(db, settings, row.id)
    for pairing_id in pairing.pair_day(db, named):
        measuring.measure_pairing(db, settings, pairing_id)
    db.commit()
    return named


def test_from_a_flat_folder_to_all_checked_by_one_correction_for_the_camera_undone_and_done_again(
    page: Page, db, serve, card
):
    page.goto(f"{serve()}/days/{card.id}/")
    asked = page.locator(".decisions")
    expect(asked).to_contain_text("1 answer for 4 takes")
    expect(asked).to_contain_text(re.compile(r"4 takes, all \+0\.2\d f: one correction for \w+, slip −0\.2\d f"))
    settle = page.get_by_role("button", name="Take and check")
    settle.click()
    expect(page.locator(".said")).to_contain_text("4 takes corrected by one correction; 4 marked as checked.")
    expect(page.locator("h1")).to_contain_text("0 need you")
    expect(asked).to_have_count(0)
    standing = page.locator(".of-devices")
    expect(standing).to_contain_text("slip −0.2")
    states = page.locator("#ledger tbody td.state")
    expect(states.first).to_contain_text("checked")
    standing.get_by_role("button", name="Undo").click()
    expect(page.locator(".said")).to_contain_text("Undone for 4 takes")
    expect(states.first).to_contain_text("measured")
    expect(page.locator("h1")).to_contain_text("3 need you")
    settle.click()
    expect(page.locator("h1")).to_contain_text("0 need you")
    db.expire_all()
    now = gathering.of_day(db, card)
    assert {one.state for one in now} == {"checked"}
    assert {one.correction for one in now} == {None}
    assert max(abs(error) for one in now for error in one.errors.all) < 0.002
