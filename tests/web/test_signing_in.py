"""Beyond this machine: nothing answers without an account and TLS, guessing is slowed, who may look changes nothing."""

import contextlib
import gc
import io
import shutil
import socket
import ssl
import subprocess
import sys
import threading
import time
from dataclasses import replace
from datetime import timedelta

import pytest
from tests.conftest import have_done
from tests.paper_day import paper_day, picture, sound

from vesk.actions import accounts, pairing
from vesk.cli import serve as serve_command
from vesk.cli.main import main
from vesk.core import signing_in
from vesk.core.errors import RefusedError, SlowedError
from vesk.core.kinds import Role
from vesk.store import accounts as kept
from vesk.store import journal, pairings
from vesk.store.columns import now
from vesk.web import create_app, tls
from vesk.web.server import make_server

PASSWORD = "the ferry leaves at six"
HTTPS = "https://localhost"


@pytest.fixture
def day(db, settings):
    settings.media_roots[0].mkdir()
    made = paper_day(
        db, {"A/a.mov": picture("09:00:00:00"), "S1/a.wav": sound("08:59:58:00")}, str(settings.media_roots[0])
    )
    pairing.pair_day(db, made)
    accounts.make(db, "Ida Brandt", PASSWORD, Role.CHANGE)
    accounts.make(db, "Jon", PASSWORD, Role.LOOK)
    db.commit()
    return made


@pytest.fixture
def outside(settings, day):
    made = create_app(replace(settings, accounts=True))
    made.config["WTF_CSRF_ENABLED"] = False
    return made


def comes_in(app, name, password=PASSWORD):
    client = app.test_client()
    answer = client.post("/sign-in", base_url=HTTPS, data={"name": name, "password": password, "to": "/home"})
    return client, answer


def test_without_an_account_nothing_answers_but_the_page_to_sign_in(outside, day):
    client = outside.test_client()
    for rule in outside.url_map.iter_rules():
        if rule.endpoint in {"static", "signing_in.show", "signing_in.sign_in"}:
            continue
        path = rule.rule
        for name in rule.arguments:
            path = path.replace(next(p for p in (f"<int:{name}>", f"<{name}>", f"<path:{name}>") if p in path), "1")
        method = "GET" if "GET" in rule.methods else "POST"
        answer = client.open(path, method=method, base_url=HTTPS)
        assert (answer.status_code, answer.headers.get("Location", "/sign-in")[:8]) in {
            (303, "/sign-in"), (401, "/sign-in")}, path  # fmt: skip
    assert client.get("/nowhere", base_url=HTTPS).status_code == 303
    assert client.get("/sign-in", base_url=HTTPS).status_code == 200
    assert client.get("/sign-in").status_code == 403  # in the clear
    assert client.get("/sign-in", base_url="https://evil.example").status_code == 421


def test_who_signed_in_signs_and_who_may_look_changes_nothing(outside, db, day):
    (row,) = pairings.of_day(db, day.id)
    client, answer = comes_in(outside, " ida  BRANDT")
    assert (answer.status_code, answer.headers["Location"]) == (303, "/home")
    cookies = answer.headers.getlist("Set-Cookie")
    assert any("vesk-signed-in" in one for one in cookies)
    assert all({"HttpOnly", "Secure", "SameSite=Strict"} <= {p.strip() for p in one.split(";")} for one in cookies)
    change = {"version": str(row.version), "slip_frames": "1"}
    looking, _ = comes_in(outside, "Jon")
    page = looking.get(f"/days/{day.id}/", base_url=HTTPS)
    assert (page.status_code, 'data-may="look"' in page.text) == (200, True)
    for path in (f"/bench/{row.id}/own", f"/days/{day.id}/stop", "/who", f"/days/{day.id}/intake/watch"):
        answer = looking.post(path, base_url=HTTPS, data=change)
        assert (answer.status_code, "may look" in answer.text) == (403, True), path
    assert client.post("/who", base_url=HTTPS, data={"name": "Somebody"}).status_code == 422
    assert client.post(f"/bench/{row.id}/own", base_url=HTTPS, data=change).status_code == 200
    assert journal.of_day(db, day.id)[0].by == "Ida Brandt"
    assert client.post("/sign-out", base_url=HTTPS).status_code == 303
    assert client.get(f"/days/{day.id}/", base_url=HTTPS).status_code == 303


def test_being_signed_in_ends_by_time_by_password_and_with_the_account(db, day):
    def come():
        token = accounts.sign_in(db, "Ida Brandt", PASSWORD, address="192.0.2.7")
        db.commit()
        return token

    for end in ("idle", "lasted", "password", "ended"):
        token = come()
        assert accounts.who_is(db, token).name == "Ida Brandt"
        own = kept.sign_ins_of(db, accounts.who_is(db, token).id)[-1]
        if end == "idle":
            own.seen_at = now() - signing_in.IDLE - timedelta(seconds=1)
        elif end == "lasted":
            own.made_at = now() - signing_in.LASTS - timedelta(seconds=1)
        elif end == "password":
            accounts.set_password(db, "Ida Brandt", PASSWORD)
        else:
            accounts.end(db, "Ida Brandt")
        db.commit()
        assert accounts.who_is(db, token) is None, end
    with pytest.raises(RefusedError, match="do not belong together"):
        come()
    assert accounts.who_is(db, "") is None
    assert PASSWORD not in kept.named(db, "jon").password
    assert kept.named(db, "jon").password.startswith("$argon2id$")
    for name, word in (
        ("Jon", PASSWORD),
        ("Vesk", PASSWORD),
        ("a\x07b", PASSWORD),
        ("Ada", "short"),
        ("Ada", "x" * 201),
    ):
        with pytest.raises(RefusedError):
            accounts.make(db, name, word, Role.CHANGE)


def test_guessing_is_slowed_by_name_and_by_address(outside, db, day, monkeypatch):
    monkeypatch.setattr(accounts, "_fits", lambda _kept, typed: typed == PASSWORD)  # hashing is slow of itself
    for n in range(signing_in.FREE + 1):
        with pytest.raises(RefusedError):
            accounts.sign_in(db, "Jon", "wrong wrong", address=f"192.0.2.{n}")
    with pytest.raises(SlowedError, match="Try again in 2 s"):
        accounts.sign_in(db, "Jon", PASSWORD, address="192.0.2.200")
    for n in range(signing_in.FREE + 1):
        with pytest.raises(RefusedError):
            accounts.sign_in(db, f"nobody {n}", "wrong wrong", address="192.0.2.201")
    with pytest.raises(SlowedError):
        accounts.sign_in(db, "Ida Brandt", PASSWORD, address="192.0.2.201")
    for row in kept.attempts(db, ["name jon", "from 192.0.2.200"]):
        row.last_at = now() - timedelta(seconds=3)
    db.commit()
    assert accounts.sign_in(db, "Jon", PASSWORD, address="192.0.2.200")
    db.commit()
    assert kept.attempts(db, ["name jon"]) == []
    status = [comes_in(outside, "Ida Brandt", "wrong wrong")[1].status_code for _ in range(signing_in.FREE + 2)]
    assert status == [422] * (signing_in.FREE + 1) + [429]


@pytest.fixture(scope="module")
def certificate(tmp_path_factory):
    folder = tmp_path_factory.mktemp("tls")
    subprocess.run(
        [shutil.which("openssl"), "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes",
         "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost,IP:127.0.0.1",
         "-keyout", folder / "key.pem", "-out", folder / "certificate.pem"],
        check=True, capture_output=True,
    )  # fmt: skip
    return folder / "certificate.pem", folder / "key.pem"


def test_tls_is_spoken_and_tells_where_who_asks_came_from(outside, day, certificate):
    seen = []
    outside.before_request_funcs[None].insert(0, lambda: seen.append(_came()))
    relay = None

    def app(*asked):
        return relay.wrap(outside)(*asked)

    server = make_server(app, "127.0.0.1:0")
    relay = tls.Relay("127.0.0.1", 0, server.effective_port, tls.context(*certificate))
    relay.start()
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    trusting = ssl.create_default_context(cafile=certificate[0])

    def ask(port, *, secured):
        link = socket.create_connection(("127.0.0.1", port), timeout=10)
        with trusting.wrap_socket(link, server_hostname="localhost") if secured else link as line:
            line.sendall(b"GET /sign-in HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
            said = b""
            while block := line.recv(65_536):
                said += block
        return said

    try:
        assert b"200 OK" in ask(relay.port, secured=True)
        assert b"403 " in ask(server.effective_port, secured=False)  # round the back, in the clear
        silent = [socket.create_connection(("127.0.0.1", relay.port)) for _ in range(20)]
        assert b"200 OK" in ask(relay.port, secured=True)
        with socket.create_connection(("127.0.0.1", relay.port)) as plain:
            plain.sendall(b"GET /sign-in HTTP/1.1\r\nHost: localhost\r\n\r\n")
            assert b"Sign in" not in plain.recv(65_536)
        for one in silent:
            one.close()
        assert seen[0] == ("127.0.0.1", "https")
    finally:
        relay.stop()
        have_done(server, server.close)
        thread.join(10)
        server.task_dispatcher.shutdown()
    with pytest.raises(RefusedError, match="cannot be used"):
        tls.context(certificate[1], certificate[0])


def test_what_takes_long_to_come_is_not_cut_off_because_who_asked_is_silent(certificate, monkeypatch):
    """As a package that is fetched as one archive: the browser says nothing until it has all of it."""
    monkeypatch.setattr(tls, "_SILENT_S", 0.2, raising=False)  # was the longest that either side might be silent

    def slow(_environ, start):
        start("200 OK", [("Content-Length", "40")])
        for _ in range(4):
            time.sleep(0.3)
            yield b"0123456789"

    server = make_server(slow, "127.0.0.1:0")
    relay = tls.Relay("127.0.0.1", 0, server.effective_port, tls.context(*certificate))
    relay.start()
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    try:
        link = socket.create_connection(("127.0.0.1", relay.port), timeout=10)
        trusting = ssl.create_default_context(cafile=certificate[0])
        with trusting.wrap_socket(link, server_hostname="localhost") as line:
            line.sendall(b"GET / HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n")
            said = b""
            while block := line.recv(65_536):
                said += block
        assert said.endswith(b"0123456789" * 4)
    finally:
        relay.stop()
        have_done(server, server.close)
        thread.join(10)
        server.task_dispatcher.shutdown()


def test_who_still_listens_when_the_relay_stops_is_let_go_whole(certificate, monkeypatch):
    """A watcher's connection stays open for as long as the page does; left open it outlived the loop it was read by."""
    left = []
    monkeypatch.setattr(sys, "unraisablehook", lambda told: left.append(str(told.exc_value)))
    with socket.create_server(("127.0.0.1", 0)) as inner:
        relay = tls.Relay("127.0.0.1", 0, inner.getsockname()[1], tls.context(*certificate))
        relay.start()
        trusting = ssl.create_default_context(cafile=certificate[0])
        link = socket.create_connection(("127.0.0.1", relay.port), timeout=10)
        with trusting.wrap_socket(link, server_hostname="localhost") as line, inner.accept()[0] as behind:
            line.sendall(b"said")
            behind.settimeout(5)
            assert behind.recv(4) == b"said"
            relay.stop()
            assert behind.recv(4) == b""
            with contextlib.suppress(ssl.SSLError, ConnectionError):
                assert line.recv(4) == b""
    gc.collect()
    assert left == []


def test_a_proxy_that_is_named_is_believed_and_nobody_else(outside, day):
    server = make_server(outside, "127.0.0.1:0", proxy="127.0.0.1")
    other = make_server(outside, "127.0.0.1:0", proxy="192.0.2.9")
    told = []
    for one in (server, other):
        thread = threading.Thread(target=one.run, daemon=True)
        thread.start()
        try:
            with socket.create_connection(("127.0.0.1", one.effective_port), timeout=10) as link:
                link.sendall(
                    b"GET /sign-in HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n"
                    b"X-Forwarded-Proto: https\r\nX-Forwarded-For: 192.0.2.77\r\n\r\n"
                )
                said = b""
                while block := link.recv(65_536):
                    said += block
            told.append(int(said.split()[1]))
        finally:
            have_done(one, one.close)
            thread.join(10)
            one.task_dispatcher.shutdown()
    assert told == [200, 403]


def test_beyond_this_machine_nothing_is_served_without_tls_and_an_account(db, settings, tmp_path, monkeypatch, capsys):
    for name, value in settings.environment().items():
        monkeypatch.setenv(name, value)
    monkeypatch.setattr(serve_command, "serve", lambda settings, *_a, listen, **_k: told.append((settings, listen)))
    told, media = [], ["serve", "--media", str(tmp_path)]
    pem = tmp_path / "x.pem"
    pem.write_text("x", encoding="ascii")
    secured = ["--certificate", str(pem), "--key", str(pem)]
    for words, why in (
        (["--listen", "192.0.2.10"], "over TLS alone"),
        (["--listen", "0.0.0.0:8730"], "over TLS alone"),
        (["--listen", "192.0.2.10", *secured, "--proxy", "192.0.2.2"], "one of both"),
        (["--listen", "192.0.2.10", "--certificate", "/nowhere", "--key", str(pem)], "no such file"),
        (["--listen", "my server"], "is no address"),
        (["--listen", "::1"], "write it as IPv4"),
        (["--listen", "192.0.2.10:99999", *secured], "is no address"),
    ):
        assert main([*media, *words]) == 1, words
        assert why in capsys.readouterr().err
    assert told == []
    main([*media, "--listen", "192.0.2.10", *secured, "--name", "vesk.example"])
    made, listen = told.pop()
    assert (made.accounts, listen) == (True, "192.0.2.10:8730")
    assert {"192.0.2.10", "vesk.example"} <= set(made.hosts)
    main([*media, "--listen", "localhost:8800"])
    made, listen = told.pop()
    assert (made.accounts, listen) == (False, "127.0.0.1:8800")
    with pytest.raises(RefusedError, match="Nobody has an account"):
        serve_command._check_accounts(settings)
    monkeypatch.setattr("sys.stdin", io.StringIO(f"{PASSWORD}\n"))
    assert main(["account", "make", "Ida Brandt", "--may", "look"]) == 0
    assert kept.named(db, "ida brandt").role == Role.LOOK
    serve_command._check_accounts(settings)
    assert main(["account", "role", "ida brandt", "--may", "change"]) == 0
    assert main(["account", "end", "Ida Brandt"]) == 0
    assert main(["account", "list"]) == 0
    assert "may change" in capsys.readouterr().out
    assert main(["account", "end", "Ida Brandt"]) == 1


def _came():
    from flask import request

    return request.remote_addr, request.scheme
