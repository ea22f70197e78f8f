"""Vesk's own PostgreSQL cluster: made, started and stopped by Debian's own programs, on loopback only."""

from __future__ import annotations

import os
import pwd
import secrets
import shutil
import socket
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from vesk.core.errors import VeskError
from vesk.services import keeping
from vesk.services.keeping import Cluster

# Below what the kernel hands to outgoing connections (32 768 to 60 999): one of those would hold the port of a server
# that was killed, and a probe of a closed port there connects to itself now and then.
FIRST_PORT = 24_870
_STATUS_LINE = 7  # of postmaster.pid: what the server says of itself
_STARTS_S = 900.0  # a server that was killed reads its journal, and every file, before it answers
_ACCOUNT = "postgres"


def bin_folder() -> Path:
    """Return where Debian keeps the newest server's programs."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/pg_ctl"), key=lambda p: float(p.parts[-3]))
    if not found:
        raise VeskError("PostgreSQL is not installed. ./vesk installs it from Debian's packages.")
    return found[-1].parent


def _as_account(command: list[str], **options: object) -> subprocess.CompletedProcess[str]:
    """Run a command as the account that may run a server: root gives itself up for it."""
    if os.geteuid() == 0:
        command = ["setpriv", f"--reuid={_ACCOUNT}", f"--regid={_ACCOUNT}", "--init-groups", *command]
    return subprocess.run(command, cwd="/", capture_output=True, text=True, check=False, timeout=120, **options)  # type: ignore[call-overload,no-any-return]


def _give(*paths: Path) -> None:
    """Give paths to the account that runs the server."""
    if os.geteuid() == 0:
        account = pwd.getpwnam(_ACCOUNT)
        for path in paths:
            os.chown(path, account.pw_uid, account.pw_gid)


def reachable(folder: Path) -> bool:
    """Say whether the server's account can enter a folder."""
    return _as_account(["test", "-x", str(folder)]).returncode == 0


def have(var: Path) -> tuple[Cluster, bool]:
    """Return Vesk's cluster, made if there is none and never was; and whether it was made.

    Raises
    ------
    VeskError
        If what lies there is not clearly this Vesk's own: nothing is touched then.
    """
    found = keeping.find(var)
    if found is None:
        return make(var), True
    if not reachable(found.data):
        closed = next((p for p in reversed([found.data, *found.data.parents]) if not reachable(p)), found.data)
        raise VeskError(
            f"The database lies at {found.data}, and the account {_ACCOUNT}, which runs it, cannot enter {closed} any "
            f"more. Nothing was touched. Open it again (chmod o+x {closed}), and start."
        )
    return found, False


def make(var: Path) -> Cluster:
    """Make a cluster where none is: aside first, then put in its place whole, so that none half-made ever stands there.

    As root the server runs under Debian's own account, which cannot enter a folder that
    is closed to others; then the data lie under /var/lib.
    """
    near, far = keeping.places(var)
    near.parent.mkdir(parents=True, exist_ok=True)
    data = near if reachable(near.parent) else far
    data.parent.mkdir(parents=True, exist_ok=True)
    _give(data.parent)
    token = secrets.token_hex(4)
    aside = data.with_name(f"making-{token}")
    secret = secrets.token_urlsafe(18)
    handed = data.with_name(f"initial-password-{token}")
    with os.fdopen(os.open(handed, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w", encoding="ascii") as file:
        file.write(secret)
    _give(handed)
    try:
        done = _as_account([
            str(bin_folder() / "initdb"), "-D", str(aside), "-U", "vesk", "--auth=scram-sha-256",
            f"--pwfile={handed}", "-E", "UTF8", "--locale=C.UTF-8",
        ])  # fmt: skip
        if done.returncode:
            raise VeskError(f"The database cluster could not be made: {done.stderr.strip()}")
        keeping.sign(aside, var, secret=secret)
        _give(*(aside / name for name in keeping.OWN_FILES))
        aside.rename(data)  # refused where anything stands already
    except BaseException:
        shutil.rmtree(aside, ignore_errors=True)  # made a moment ago by this very call
        raise
    finally:
        handed.unlink(missing_ok=True)
    return keeping.note_beside(data, var)


def adopt(var: Path, data: Path | None = None) -> Cluster:
    """Make a database this Vesk's own: one that was moved or copied here, or whose secret was lost.

    Raises
    ------
    VeskError
        If there is none, or its server runs.
    """
    data = data or keeping.found_at(var)
    if data is None or not (data / "PG_VERSION").is_file():
        raise VeskError(f"There is no database at {data or keeping.places(var)[0]}. Name its folder: ./vesk adopt DATA")
    if _as_account([str(bin_folder() / "pg_ctl"), "-D", str(data), "status"]).returncode == 0:
        raise VeskError(f"The server of {data} runs. Stop whatever runs it, then adopt it.")
    secret = keeping.secret_of(data)
    if not secret:
        secret = secrets.token_urlsafe(18)
        _set_password(data, secret)
    keeping.sign(data, var, secret=secret)
    _give(*(data / name for name in keeping.OWN_FILES))
    return keeping.note_beside(data, var)


def _set_password(data: Path, secret: str) -> None:
    """Give the database's role a new password without knowing the old one: its files' owner may."""
    done = _as_account(
        [str(bin_folder() / "postgres"), "--single", "-D", str(data), "postgres"],
        input=f"ALTER ROLE vesk PASSWORD '{secret}'\n",
    )
    if done.returncode:
        raise VeskError(f"{data}: its secret could not be made anew: {done.stderr.strip()[-300:]}")


def free_port(first: int) -> int:
    """Return the first port from `first` on that nobody listens on."""
    for port in range(first, first + 200):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port
    raise VeskError(f"No free port between {first} and {first + 200} on 127.0.0.1.")


def running(cluster: Cluster) -> bool:
    """Say whether the server runs."""
    return _as_account([str(bin_folder() / "pg_ctl"), "-D", str(cluster.data), "status"]).returncode == 0


def answers(cluster: Cluster) -> bool:
    """Say whether the server takes connections."""
    try:
        with socket.create_connection(("127.0.0.1", cluster.port()), timeout=2):
            return True
    except (OSError, VeskError, ValueError):
        return False


def _recovers(cluster: Cluster) -> bool:
    """Say whether the server lives and takes no connection yet, as one does that was killed."""
    try:
        lines = (cluster.data / "postmaster.pid").read_text(encoding="utf-8", errors="replace").splitlines()
    except OSError:
        return False
    return lines[_STATUS_LINE : _STATUS_LINE + 1] == ["starting"] and running(cluster)


def _wait_while_it_recovers(cluster: Cluster, tell: Callable[[str], None]) -> None:
    """Wait for a server that is reading its journal: nothing is broken, and starting it again would not help."""
    deadline = time.monotonic() + _STARTS_S
    told = False
    while _recovers(cluster) and time.monotonic() < deadline:
        if not told:
            tell("the database was not ended in order; it reads its journal and looks at every file before it answers")
            told = True
        time.sleep(0.5)


def _is_own(cluster: Cluster) -> bool:
    """Say whether the server that answers at its port is its own: a killed one's port may be another's by now."""
    import psycopg  # noqa: PLC0415 - keeps `status` and `stop` quick

    try:
        with psycopg.connect(cluster.url("postgres"), autocommit=True, connect_timeout=3) as connection:
            found = connection.execute("SHOW data_directory").fetchone()
    except psycopg.OperationalError:
        return False
    return found is not None and Path(found[0]).resolve() == cluster.data.resolve()


def start(
    cluster: Cluster,
    *,
    tell: Callable[[str], None] = lambda _: None,
    durable: bool = True,
    port: int | None = None,
    more: str = "",
) -> None:
    """Start the server unless it runs; an old one that is still dying is waited for.

    Without `durable` nothing waits for the disk: for databases that are thrown away. With `port` it is started there
    or not at all: others know it by that. Options that there are `more` stand above these.
    """
    problem = ""
    for attempt in range(20):
        _wait_while_it_recovers(cluster, tell)
        if running(cluster):
            if answers(cluster) and _is_own(cluster):
                return
            # Killed a moment ago, or still starting: its process lingers and takes no connection.
            time.sleep(0.5)
            continue
        options = (
            f"-p {port or free_port(FIRST_PORT + attempt)} -c listen_addresses=127.0.0.1 -c unix_socket_directories=''"
            " -c max_connections=300 -c shared_buffers=64MB"
        )
        if not durable:
            options += " -c fsync=off -c synchronous_commit=off -c full_page_writes=off"
        options += more
        done = _as_account([
            str(bin_folder() / "pg_ctl"), "-D", str(cluster.data), "-w", "-t", "30", "-l", str(cluster.log),
            "-o", options, "start",
        ])  # fmt: skip
        if done.returncode == 0:
            return
        problem = (done.stderr or done.stdout).strip()
        tell("the database server did not start at once; trying again")
        time.sleep(1.0)
    raise VeskError(f"The database server does not start: {problem} Its log is {cluster.log}.")


def stop(cluster: Cluster) -> bool:
    """Stop the server; returns whether it ran."""
    if not running(cluster):
        return False
    _as_account([str(bin_folder() / "pg_ctl"), "-D", str(cluster.data), "-w", "-m", "fast", "stop"])
    return True


def ensure_database(cluster: Cluster, name: str = "vesk") -> None:
    """Create a database unless it is there."""
    import psycopg  # noqa: PLC0415 - keeps `status` and `stop` quick
    from psycopg import sql  # noqa: PLC0415

    with psycopg.connect(cluster.url("postgres"), autocommit=True) as connection:
        found = connection.execute("SELECT 1 FROM pg_database WHERE datname = %s", (name,)).fetchone()
        if found is None:
            connection.execute(sql.SQL("CREATE DATABASE {}").format(sql.Identifier(name)))
