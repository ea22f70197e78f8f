"""Two people at one day, in two browsers: who is where, undoing what the other did, finding, the line for newcomers."""

import shutil
import subprocess
import threading
from dataclasses import replace
from fractions import Fraction

import pytest
from playwright.sync_api import Page, expect
from tests.conftest import Counted
from tests.paper_day import paper_day, picture, sound
from werkzeug.serving import make_server

from vesk.actions import accounts, correct, pairing
from vesk.core.kinds import Role
from vesk.store import pairings
from vesk.web import create_app, tls


@pytest.fixture
def day(db):
    files = {f"A/A001_{n:03}.mov": picture(f"08:{n:02}:00:00") for n in range(12)}
    made = paper_day(db, {**files, **{f"S1/{n}_01.wav": sound(f"08:{n:02}:01:00") for n in range(12)}})
    pairing.pair_day(db, made)
    db.commit()
    return made


def says(page: Page, name: str) -> None:
    page.locator("#show-who").click()
    page.locator("#who input[name=name]").fill(name)
    page.locator("#who .act").click()
    expect(page.locator("#show-who")).to_have_text(name)


def test_who_is_where_what_the_other_did_and_what_a_page_is_for(page: Page, new_context, serve, settings, db, day):
    address = serve()
    row = pairings.of_day(db, day.id)[2]
    correct.set_own(db, settings, row.id, version=row.version, slip=Fraction(3, 25))
    db.commit()
    db.close()
    page.goto(f"{address}/days/{day.id}/")
    says(page, "Ida")
    line = page.locator(".first-visit")
    expect(line).to_contain_text("What is left to decide stands on top")
    line.get_by_role("button").click()
    expect(line).to_be_hidden()
    page.reload()
    expect(line).to_be_hidden()
    apart = new_context()
    other = apart.new_page()
    other.goto(f"{address}/days/{day.id}/")
    says(other, "Jon")
    other.goto(f"{address}/bench/{row.id}")
    expect(page.locator(".others")).to_contain_text("Jon on A001_002.mov (Bench)")
    expect(page.locator(f'tr[data-recording="{row.picture_id}"] td[data-with="Jon"]')).to_have_count(1)
    page.goto(f"{address}/bench/{row.id}")
    expect(other.locator(".others .same")).to_contain_text("Ida on this take too")
    # Ida undoes what was done, Jon sees it, and undoes the undoing.
    page.goto(f"{address}/days/{day.id}/journal")
    page.get_by_role("button", name="Undo: A001_002.mov with 2_01.wav: slip of +3.000 f").click()
    expect(page.locator(".done")).to_contain_text("Undone: A001_002.mov with 2_01.wav: slip of +3.000 f")
    other.goto(f"{address}/days/{day.id}/journal?take=A001_002")
    first = other.locator("tbody tr").first
    expect(first).to_contain_text("undone, of test editor: A001_002.mov")
    expect(first).to_contain_text("Ida")
    first.get_by_role("button").click()
    expect(other.locator(".done")).to_contain_text("Undone: undone, of test editor")
    apart.close()
    expect(page.locator(".others")).to_have_count(0)
    # Find, by keys alone.
    page.keyboard.press("q")
    page.keyboard.type("a001_007")
    page.keyboard.press("Enter")
    expect(page.locator("#found tbody tr")).to_have_count(1)
    page.get_by_role("link", name="A001_007.mov").click()
    expect(page.locator("#recording h1")).to_contain_text("A001_007")


@pytest.fixture
def outside(settings, tmp_path):
    """Serve the application over TLS and by accounts, as beyond this machine; gives its address."""
    subprocess.run(
        [shutil.which("openssl"), "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes",
         "-days", "2", "-subj", "/CN=localhost", "-keyout", tmp_path / "k.pem", "-out", tmp_path / "c.pem"],
        check=True, capture_output=True,
    )  # fmt: skip
    relays = []
    made = create_app(replace(settings, accounts=True))

    def told(*asked):
        return relays[0].wrap(made)(*asked)

    app = Counted(told)
    server = make_server("127.0.0.1", 0, app, threaded=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    relays.append(tls.Relay("127.0.0.1", 0, server.server_port, tls.context(tmp_path / "c.pem", tmp_path / "k.pem")))
    relays[0].start()
    yield f"https://127.0.0.1:{relays[0].port}"
    relays[0].stop()
    server.shutdown()
    app.end()
    server.server_close()


def test_from_another_machine_one_signs_in_looks_and_signs_out(new_context, outside, db, day):
    accounts.make(db, "Jon", "the ferry leaves at six", Role.LOOK)
    db.commit()
    db.close()
    page = new_context(ignore_https_errors=True).new_page()
    page.goto(f"{outside}/days/{day.id}/journal")
    page.get_by_label("name").fill("jon")
    page.get_by_label("password").fill("not that one")
    page.keyboard.press("Enter")
    expect(page.locator(".problem")).to_contain_text("do not belong together")
    page.get_by_label("password").fill("the ferry leaves at six")
    page.keyboard.press("Enter")
    expect(page.locator("#journal h1")).to_be_visible()  # where one was going
    page.goto(f"{outside}/days/{day.id}/")
    expect(page.locator("header")).to_contain_text("Jon, looking")
    expect(page.locator("#pick-all")).to_be_disabled()
    page.get_by_role("button", name="sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    page.goto(f"{outside}/days/{day.id}/")
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
