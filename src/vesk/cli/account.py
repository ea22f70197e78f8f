"""`vesk account`: make and end accounts, with which people come in from other machines."""

from __future__ import annotations

import argparse
import getpass
import sys

from vesk.core.errors import RefusedError
from vesk.core.kinds import Role
from vesk.services import present
from vesk.settings import from_environment

_ROLES = {"look": Role.LOOK, "change": Role.CHANGE}


def arguments(parser: argparse.ArgumentParser) -> None:
    """Name the options."""
    parser.add_argument("do", choices=("make", "end", "password", "role", "list"))
    parser.add_argument("name", nargs="?", default="", help="whose")
    parser.add_argument("--may", choices=tuple(_ROLES), default="change", help="what they may do (default: change)")


def _password() -> str:
    """Ask for a password, twice at a terminal; else read a line."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    first = getpass.getpass("password: ")
    if getpass.getpass("once more: ") != first:
        raise RefusedError("They differ. Nothing was changed.")
    return first


def run(options: argparse.Namespace) -> int:
    """Do one thing to one account, or list all."""
    from vesk.actions import accounts  # noqa: PLC0415 - loads the application
    from vesk.store import accounts as kept  # noqa: PLC0415
    from vesk.store.session import open_session  # noqa: PLC0415

    if options.do != "list" and not options.name:
        raise RefusedError(f"Whose? ./vesk account {options.do} NAME")
    given = _password() if options.do in {"make", "password"} else ""
    with present.database(from_environment()) as settings, open_session(settings.sqlalchemy_url) as session:
        if options.do == "list":
            for row in kept.every(session):
                ended = f", ended {row.ended_at:%Y-%m-%d %H:%M}" if row.ended_at else ""
                print(f"{row.name:30} {row.role}, made {row.made_at:%Y-%m-%d}{ended}")
            return 0
        role = _ROLES[options.may]
        done = {
            "make": lambda: f"{accounts.make(session, options.name, given, role).name} {role}.",
            "end": lambda: f"{accounts.end(session, options.name).name} comes in no more.",
            "password": lambda: f"{accounts.set_password(session, options.name, given).name} has another password.",
            "role": lambda: f"{accounts.set_role(session, options.name, role).name} {role}.",
        }[options.do]()
        session.commit()
        print(done)
    return 0
