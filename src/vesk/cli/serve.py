"""`vesk serve --media FOLDER`: an empty Vesk that may read it, for this machine or, by accounts, for others."""

from __future__ import annotations

import argparse
import ipaddress
import json
import socket
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from vesk.core.errors import MediaError, RefusedError
from vesk.services import keeping, supervisor
from vesk.settings import KEPT, Settings, from_environment

_PORT = 8730  # where nothing else is said


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("--media", type=Path, action="append", help="a folder that may be read (repeatable)")
    parser.add_argument("--workers", type=int, default=supervisor.cores())
    parser.add_argument(
        "--listen", metavar="ADDRESS[:PORT]", default="", help="answer other machines too: by accounts, over TLS"
    )
    parser.add_argument("--certificate", type=Path, help="a certificate for TLS, with those above it")
    parser.add_argument("--key", type=Path, help="its key")
    parser.add_argument("--proxy", default="", metavar="ADDRESS", help="a proxy that does TLS instead")
    parser.add_argument(
        "--share", metavar="ADDRESS", default="", help="let workers on other machines in at this address of this one"
    )
    parser.add_argument("--name", action="append", default=[], help="a name this is asked for by (repeatable)")


def run(options: argparse.Namespace) -> int:
    """Serve until Ctrl-C."""
    settings = from_environment()
    settings = _as_before(settings, options)
    folders = options.media or list(settings.media_roots)
    if not folders:
        raise RefusedError("Name the folder that holds the days' media: ./vesk serve --media FOLDER")
    for folder in folders:
        if not folder.is_dir():
            raise MediaError(folder, "there is no such folder", "Name the folder that holds the day's media.")
    settings = replace(settings, media_roots=tuple(folder.resolve() for folder in folders))
    settings = replace(settings, hosts=(*settings.hosts, *options.name))
    settings, listen = _outside(settings, options)
    return serve(settings, options.workers, "serve", listen=listen, share=options.share)


def _as_before(settings: Settings, options: argparse.Namespace) -> Settings:
    """Return settings that go on as Vesk was last started, or as a backup says, where nothing else is said."""
    try:
        kept = json.loads((settings.var / KEPT).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return settings
    if not options.media and not settings.media_roots:
        settings = replace(settings, media_roots=tuple(Path(one) for one in kept.get("media", [])))
    if not settings.outputs:
        settings = replace(settings, outputs=tuple(Path(one) for one in kept.get("output", [])))
    return settings


def _outside(settings: Settings, options: argparse.Namespace) -> tuple[Settings, str]:
    """Return settings for answering at an address, and that with its port; empty for this machine alone.

    Raises
    ------
    RefusedError
        If it lies beyond this machine and there is no TLS, or it is no address.
    """
    if not options.listen:
        return settings, ""
    host, port = _read(options.listen)
    if _is_here(host):
        return settings, f"{host}:{port}"
    by_certificate = options.certificate is not None and options.key is not None
    if by_certificate == bool(options.proxy):
        raise RefusedError(
            f"{options.listen} lies beyond this machine. Vesk is served there over TLS alone: give --certificate and "
            "--key, or name the proxy that does TLS with --proxy ADDRESS; one of both. Nothing was started."
        )
    for file in (options.certificate, options.key) if by_certificate else ():
        if not file.is_file():
            raise RefusedError(f"{file}: there is no such file. Nothing was started.")
    every = ipaddress.ip_address(host).is_unspecified
    own = {socket.gethostname(), socket.getfqdn()} | (set() if every else {host})
    return replace(
        settings, accounts=True, proxy=options.proxy, hosts=(*settings.hosts, *sorted(own)),
        certificate=options.certificate and options.certificate.resolve(),
        key=options.key and options.key.resolve(),
    ), f"{host}:{port}"  # fmt: skip


def _read(text: str) -> tuple[str, int]:
    host, _, port = text.rpartition(":") if text.count(":") == 1 else (text, "", "")
    host = "127.0.0.1" if host == "localhost" else host
    try:
        ipaddress.IPv4Address(host)
        number = int(port or _PORT)
    except ValueError:
        number = -1
    if not 0 < number < 1 << 16:
        raise RefusedError(f"{text!r} is no address: write it as IPv4, like 192.0.2.10 or 192.0.2.10:8730.")
    return host, number


def _is_here(host: str) -> bool:
    return ipaddress.ip_address(host).is_loopback


def _check_accounts(settings: Settings) -> None:
    from vesk.store import accounts  # noqa: PLC0415 - loads the tables
    from vesk.store.session import open_session  # noqa: PLC0415

    with open_session(settings.sqlalchemy_url) as session:
        if not accounts.are_there(session):
            raise RefusedError(
                "Nobody has an account yet, and beyond this machine nobody comes in without: "
                "./vesk account make NAME. Nothing is served."
            )


def serve(
    settings: Settings,
    workers: int,
    kind: str,
    prepare: Callable[[Settings, supervisor.Steps], object] = lambda _settings, _steps: None,
    *,
    listen: str = "",
    share: str = "",
) -> int:
    """Start everything, let `prepare` fill it, and stay until asked to end."""
    supervisor.take_folder(settings)
    supervisor.stop_on_signals()
    steps = supervisor.Steps()
    running = supervisor.Running(settings, kind)
    try:
        running.share = share
        running.settings, running.own = supervisor.database(settings, steps, share=share)
        if settings.accounts:
            _check_accounts(running.settings)
        running.start_web(listen)
        running.start_workers(workers)
        running.note()
        keeping.write(settings.var / KEPT, json.dumps(running.settings.kept(), indent=1), 0o600)
        prepare(running.settings, steps)
        steps("waiting for the web server", running.wait_for_web)
        print(f"\nVesk is at {running.address}   ({steps.elapsed:.1f} s; Ctrl-C ends it)\n", flush=True)
        running.watch()
    except KeyboardInterrupt:
        print("\nending web server, workers and database … ", end="", flush=True)
        running.end()
        print("done", flush=True)
        return 0
    except BaseException:
        running.end()
        raise
    return 0
