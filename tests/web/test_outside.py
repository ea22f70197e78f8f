"""The outside: who is answered, what may be sent, and what one slow or greedy sender costs the others: nothing."""

import http.client
import re
import socket
import sys
import threading
import time

import psycopg
import pytest
from sqlalchemy.exc import OperationalError
from tests.conftest import PROJECT, have_done
from tests.paper_day import paper_day, picture, recording, sound, source

from vesk.actions import correct, pairing
from vesk.core.conform.written import Written
from vesk.jobs.queue import enqueue
from vesk.store import days, journal, pairings
from vesk.web import HERE, create_app
from vesk.web import server as web_server
from vesk.web.server import make_server
from vesk.web.shared import views

EXTERNAL = re.compile(r"""(?:src|href|action)=["'](?:https?:)?//""")


@pytest.fixture
def day(db, settings):
    settings.media_roots[0].mkdir()
    made = paper_day(
        db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00")}, str(settings.media_roots[0])
    )
    pairing.pair_day(db, made)
    db.commit()
    return made


@pytest.fixture
def served(app):
    """Serve the application as it is served in earnest."""
    server = make_server(app, "127.0.0.1:0")
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    yield server

    def end():
        for channel in list(server.active_channels.values()):
            channel.handle_close()
        server.close()

    have_done(server, end)
    thread.join(10)
    server.task_dispatcher.shutdown()
    assert not thread.is_alive()


def ask(server, path="/new", host="127.0.0.1"):
    """Ask for a page in words; returns status and how long it took."""
    begun = time.monotonic()
    with socket.create_connection(("127.0.0.1", server.effective_port), timeout=30) as link:
        link.sendall(f"GET {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n".encode())
        said = b""
        while block := link.recv(65_536):
            said += block
    return int(said.split()[1]), time.monotonic() - begun


def test_a_foreign_name_gets_no_page_and_no_token(app, settings):
    client = app.test_client()
    for host in ("evil.example", "127.0.0.1.evil.example", "localhost.evil.example:8720", "vesk", "192.0.2.1"):
        for path in ("/", "/new", "/static/vesk.css"):
            answer = client.get(path, headers={"Host": host})
            assert answer.status_code == 421, host
            assert "Set-Cookie" not in answer.headers
        assert client.post("/new", headers={"Host": host}).status_code == 421
    for host in (*HERE, "localhost:8720", "127.0.0.1:1", "[::1]:8720"):
        assert client.get("/new", headers={"Host": host}).status_code == 200, host
    from dataclasses import replace

    named = create_app(replace(settings, hosts=("cutting-room",))).test_client()
    assert named.get("/new", headers={"Host": "Cutting-Room:8720"}).status_code == 200
    assert named.get("/new", headers={"Host": "other"}).status_code == 421


def test_every_answer_carries_its_guards_and_no_page_needs_less(client, day):
    pages = ["/new", f"/days/{day.id}/", f"/days/{day.id}/intake", f"/days/{day.id}/turnover", "/nowhere"]
    for path in pages:
        answer = client.get(path)
        policy = answer.headers["Content-Security-Policy"]
        assert "unsafe" not in policy
        assert "frame-ancestors 'none'" in policy
        for name in ("X-Content-Type-Options", "X-Frame-Options", "Referrer-Policy", "Cross-Origin-Opener-Policy"):
            assert name in answer.headers
        assert not re.search(r"<style|\sstyle=|\son[a-z]+=|javascript:", answer.text), path
        assert not EXTERNAL.search(answer.text)
    cookie = client.application.test_client().get("/new").headers["Set-Cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=Strict" in cookie
    for path in (PROJECT / "src" / "vesk" / "web").rglob("*.html"):
        assert not re.search(r"\sstyle=|<style|\son(?:click|load|error)=", path.read_text(encoding="utf-8")), path


HOSTILE = (
    "1e200000000", "nan", "inf", "9" * 2000, "a\0b", "-1e9", "99999999999", "=1+1", "\N{ARABIC-INDIC DIGIT ONE}", "",
)  # fmt: skip


def test_no_field_can_freeze_break_or_enter_anything(client, db, day):
    """Every field of every form, with what hurt once: a sentence, quickly, and never an error of Vesk's own."""
    (row,) = pairings.of_day(db, day.id)
    own = source(db, day, "A")
    forms = {
        f"/bench/{row.id}/own": ("version", "slip_frames", "ppm"),
        f"/bench/{row.id}/slip": ("version", "frames", "tenths", "samples", "seconds"),
        f"/bench/{row.id}/aside": ("version", "reason"),
        f"/sources/{own.id}": ("version", "name", "distance_m", "delay_ms"),
        f"/sources/{own.id}/all": ("version", "tag", "position", "rate"),
        f"/sources/{own.id}/stretch": ("version", "since", "before", "clock", "end"),
        f"/sources/{own.id}/merge": ("version", "into"),
        f"/sources/{own.id}/clock": ("version", "clock"),
        f"/days/{day.id}/names": ("version", "patterns"),
        f"/days/{day.id}/names/preview": ("patterns",),
        f"/days/{day.id}/intake/together": ("recording", "do", "to", "field", "value"),
        f"/days/{day.id}/intake/oddity": ("key", "note", "do"),
        f"/days/{day.id}/reports": ("kind", "beside"),
        f"/days/{day.id}/together": ("pairing", "do"),
        f"/recordings/{recording(db, day, 'a.mov').id}/apart": ("version",),
        "/new": ("production", "number", "shot_on", "rate", "folder"),
        "/who": ("name", "back"),
    }
    good = {"version": "1", "do": "put", "field": "scene", "clock": "none", "production": "x", "rate": "25"}
    before = len(journal.of_day(db, day.id))
    db.commit()
    begun = time.process_time()
    asked = 0
    for url, fields in forms.items():
        for name in fields:
            for value in HOSTILE:
                answer = client.post(url, data={**{n: good[n] for n in fields if n in good}, name: value})
                assert answer.status_code < 500, (url, name, value[:20])
                asked += 1
    assert asked > 400
    assert (time.process_time() - begun) / asked < 0.5  # one of these took 37 s
    for path in (
        "/days/99999999999/", "/bench/4294967297", "/recordings/-1", "/sources/99999999999999999999/all",
        f"/media/listen/{row.id}.wav?at_s=nan&span_s=1", f"/media/listen/{row.id}.wav?at_s=1e300&span_s=1e300",
        f"/media/{row.picture_id}/peaks?level=9e9", f"/media/{row.picture_id}/frame/99999999999.jpg",
        f"/days/{day.id}/?show=%00", f"/days/{day.id}/intake?order=" + "x" * 5000,
    ):  # fmt: skip
        assert 400 <= client.get(path).status_code < 500, path
    assert len(journal.of_day(db, day.id)) - before < 60  # names and notes that are merely odd were taken


def test_a_body_that_is_too_large_is_told_in_words(served, day):
    for size, status, words in (
        (6 << 20, 413, "4 MB and"),
        (3 << 20, 422, "lines; a day"),
        (200 << 10, 422, "lines; a day"),
        (9, 422, "columns"),
    ):
        link = http.client.HTTPConnection("127.0.0.1", served.effective_port, timeout=30)
        part = b"--B\r\nContent-Disposition: form-data; name="
        body = part + b'"kind"\r\n\r\nsound\r\n' + part + b'"report"; filename="r.csv"\r\n\r\n'
        body += b"x,y\n" * (size // 4) + b"\r\n--B--\r\n"
        try:
            link.request("POST", f"/days/{day.id}/reports", body, {"Content-Type": "multipart/form-data; boundary=B"})
            answer = link.getresponse()
            text = answer.read().decode()
            assert answer.status == status
            assert words in text
            assert "went wrong inside" not in text
        finally:
            link.close()


def test_what_is_half_sent_holds_up_nobody_and_is_let_go(served, monkeypatch):
    monkeypatch.setattr(web_server, "SENDING_S", 2)
    served.adj.cleanup_interval = 1
    served.next_channel_cleanup = 0
    links = []
    for n in range(150):
        link = socket.create_connection(("127.0.0.1", served.effective_port), timeout=20)
        link.sendall(
            b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: "
            if n % 2
            else b"POST /new HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000\r\n\r\nproduction="
        )
        links.append(link)
    status, took = ask(served)
    assert status == 200
    assert took < 3
    # One that drips is let go as well: the clock runs from its first byte.
    deadline, closed = time.monotonic() + 15, False
    while time.monotonic() < deadline and not closed:
        try:
            links[0].sendall(b"x")
            links[0].settimeout(0.3)
            closed = links[0].recv(10) == b""
        except TimeoutError:
            continue
        except OSError:
            closed = True
    assert closed
    for link in links:
        link.close()


def test_who_waits_for_somebody_elses_lock_is_told_and_every_page_answers(app, db, settings, day, served):
    (row,) = pairings.of_day(db, day.id)
    version, number = row.version, row.id
    db.commit()
    statuses = []

    def post():
        answer = app.test_client().post(f"/bench/{number}/check", data={"version": version})
        statuses.append((answer.status_code, "busy" in answer.text, answer.headers.get("Retry-After")))

    with psycopg.connect(settings.database_url) as holder:
        holder.execute("SELECT pg_advisory_xact_lock(6, %s)", (day.id,))
        threads = [threading.Thread(target=post) for _ in range(30)]
        for thread in threads:
            thread.start()
        time.sleep(0.5)
        status, took = ask(served, f"/days/{day.id}/")
        for thread in threads:
            thread.join(40)
    assert status == 200
    assert took < 25  # nor does it wait as long as they do, one after the other
    assert set(statuses) == {(503, True, "3")}
    assert pairings.standing_checks(db, [number]) == {}
    assert app.test_client().post(f"/bench/{number}/check", data={"version": version}).status_code == 200


def test_a_database_that_is_away_is_told_and_the_page_tries_again(app, db, settings, day, monkeypatch):
    from sqlalchemy.exc import OperationalError

    def away(*_, **__):
        raise OperationalError("SELECT 1", {}, psycopg.OperationalError("the connection is closed"))

    with monkeypatch.context() as gone:
        gone.setattr(sys.modules["vesk.web.day.views"], "day_frame", away)
        answer = app.test_client().get(f"/days/{day.id}/")
        assert answer.status_code == 503
        assert 'http-equiv="refresh"' in answer.text
    assert app.test_client().get(f"/days/{day.id}/").status_code == 200


def test_an_empty_or_damaged_key_is_made_anew(settings, day):
    path = settings.var / "web.secret"
    for left in (b"", b"short", b"\xff\xfe"):
        path.write_bytes(left)
        assert create_app(settings).test_client().get("/new").status_code == 200
        assert len(path.read_text()) >= 32
    assert path.stat().st_mode & 0o077 == 0
    kept = path.read_text()
    create_app(settings)
    assert path.read_text() == kept


def test_a_person_says_once_who_they_are_and_everything_is_signed_so(app, db, settings, day):
    client = app.test_client()
    (row,) = pairings.of_day(db, day.id)
    assert ">test editor</button>" in client.get(f"/days/{day.id}/").text
    for wrong in ("", "Vesk", " vesk ", "x" * 61, "a\x07b"):
        assert client.post("/who", data={"name": wrong, "back": "/"}).status_code == 422, wrong
    here = f"/days/{day.id}/"
    for back, leads in ((here, here), ("//evil.example/", "/"), ("https://evil.example", "/")):
        answer = client.post("/who", data={"name": "  Ada  Möller ", "back": back})
        assert (answer.status_code, answer.location) == (303, leads)
    assert "HttpOnly" in answer.headers["Set-Cookie"]
    client.post(f"/bench/{row.id}/aside", data={"version": row.version, "reason": "wild"})
    newest = journal.of_day(db, day.id)[0]
    assert (newest.by, "set aside" in newest.what) == ("Ada Möller", True)
    client.set_cookie("vesk-who", "Vesk")  # nobody signs as Vesk, however it is sent
    assert ">test editor</button>" in client.get(f"/days/{day.id}/").text


def test_holds_is_said_with_the_pictures_own_frame_rate(db, settings, app, day):
    """A take at 50 frames a second is held to a quarter of *its* frame, on Turnover as on the bench."""
    from vesk.store.tables import Delivery, Turnover

    row = Turnover(day_id=day.id, folder=str(settings.var / "t"), state="done", made_by="me")
    db.add(row)
    db.flush()
    written = Written("a.wav", "", 1, 48_000, 1, 0, "rounded", (0.006,) * 3, tolerance_s=0.005)
    db.add(Delivery(turnover_id=row.id, picture_id=recording(db, day, "a.mov").id, name="a.wav", written=written))
    db.commit()
    page = app.test_client().get(f"/days/{day.id}/turnover").text
    assert "does not hold; rounded" in page  # by the day's 25 frames a second it would


def test_a_check_made_by_hand_needs_no_measurement_and_is_of_these_files(db, settings, day):
    (row,) = pairings.of_day(db, day.id)
    correct.check(db, settings, row.id, version=row.version)
    db.commit()
    of = pairings.standing_checks(db, [row.id])[row.id].of
    assert of == f"{recording(db, day, 'a.mov').content}:{recording(db, day, 'a.wav').content}"


def test_health_tells_of_database_queue_and_disk(app, db, settings, day, monkeypatch):
    client = app.test_client()
    enqueue(db, "vesk:pair", day_id=day.id)
    db.commit()
    nobody = client.get("/healthz")
    assert nobody.status_code == 503
    assert (nobody.json["database"], nobody.json["queue"]["workers"]) == ("answers", 0)
    assert nobody.json["queue"]["waiting"] == 1
    assert 0 <= nobody.json["queue"]["oldest_s"] < 60
    db.connection().exec_driver_sql("INSERT INTO procrastinate_workers (last_heartbeat) VALUES (now())")
    db.commit()
    well = client.get("/healthz")
    assert (well.status_code, well.json["queue"]["workers"]) == (200, 1)
    monkeypatch.setattr(views, "LEAST_LEFT", well.json["disk_left_bytes"] * 10)
    assert client.get("/healthz").status_code == 503

    def away(_session):
        raise OperationalError("SELECT 1", {}, psycopg.OperationalError("the connection is lost"))

    monkeypatch.setattr(views.health, "queue", away)
    gone = client.get("/healthz")
    assert (gone.status_code, gone.json["database"]) == (503, "does not answer")


@pytest.mark.parametrize(
    ("address", "sent"),
    [
        ("/sources/{source}/kind", {"kind": "slate"}),
        ("/sources/{source}/stretch", {"since": "10:00", "before": "11:00", "clock": "sun"}),
        ("/sources/{source}/clock", {"clock": "sun"}),
    ],
)
def test_a_word_that_is_none_of_those_offered_is_refused_in_words(db, app, day, address, sent):
    row = days.sources(db, day.id)[0]
    version = row.version
    answer = app.test_client().post(address.format(source=row.id), data={"version": version, **sent})
    assert (answer.status_code, "Choose one of these" in answer.text) == (422, True)
    db.expire_all()
    assert days.get_source(db, row.id).version == version
