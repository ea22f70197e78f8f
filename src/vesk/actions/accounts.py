"""Make and end accounts, sign in and out. Passwords are kept as what Argon2 makes of them."""

from __future__ import annotations

import secrets
from functools import cache
from hashlib import sha256
from threading import BoundedSemaphore

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlmodel import Session

from vesk.core import signing_in
from vesk.core.errors import NotFoundError, RefusedError, SlowedError
from vesk.core.kinds import Role
from vesk.settings import LONGEST_NAME, VESK
from vesk.store import accounts
from vesk.store.accounts import Account, SignIn
from vesk.store.columns import now

_HASHER = PasswordHasher()
_AT_ONCE = BoundedSemaphore(2)  # each hash takes 64 MiB
_WRONG = "That name and that password do not belong together. Nothing else can be said."


def known_as(name: str) -> str:
    """Return a name as it is known, in whatever letters it is typed.

    Examples
    --------
    >>> known_as("  Ida  Brandt ")
    'ida brandt'
    """
    return " ".join(name.split()).casefold()


def _hash(password: str) -> str:
    with _AT_ONCE:
        return _HASHER.hash(password)


@cache
def _nobodys() -> str:
    """Return what no password fits: who is unknown costs as long as who is known. Made when first somebody comes."""
    return _hash(secrets.token_urlsafe(16))


def _fits(kept: str, password: str) -> bool:
    try:
        with _AT_ONCE:
            return _HASHER.verify(kept, password)
    except (VerificationError, InvalidHashError):
        return False


def _check_password(password: str) -> None:
    if not signing_in.SHORTEST <= len(password) <= signing_in.LONGEST:
        raise RefusedError(f"A password has {signing_in.SHORTEST} letters at least, {signing_in.LONGEST} at most.")


def make(session: Session, name: str, password: str, role: Role) -> Account:
    """Make an account, or bring one that ended back.

    Raises
    ------
    RefusedError
        If there is one of that name, the name is none, or the password is short.
    """
    tidy = " ".join(name.split())
    if not tidy or len(tidy) > LONGEST_NAME or not tidy.isprintable() or known_as(tidy) == VESK.casefold():
        raise RefusedError(f"{name!r} is no name: at most {LONGEST_NAME} letters, and not Vesk's own.")
    _check_password(password)
    row = accounts.named(session, known_as(tidy))
    if row is not None and row.ended_at is None:
        raise RefusedError(f"{row.name} has an account. Give it another password with ./vesk account password.")
    row = row or Account(name=tidy, known_as=known_as(tidy), password="", role=role)
    row.name, row.password, row.role, row.ended_at = tidy, _hash(password), role, None
    session.add(row)
    return row


def _there(session: Session, name: str) -> Account:
    row = accounts.named(session, known_as(name))
    if row is None or row.ended_at is not None:
        raise NotFoundError(f"Nobody named {name!r} has an account. ./vesk account list names all.")
    return row


def end(session: Session, name: str) -> Account:
    """End an account: nobody comes in by it, and who is in is out. What was signed stays signed."""
    row = _there(session, name)
    row.ended_at = now()
    _sign_out_everywhere(session, row)
    return row


def set_password(session: Session, name: str, password: str) -> Account:
    """Give an account another password; whoever is in by the old one is out."""
    row = _there(session, name)
    _check_password(password)
    row.password = _hash(password)
    _sign_out_everywhere(session, row)
    accounts.forget_failures(session, f"name {row.known_as}")
    return row


def set_role(session: Session, name: str, role: Role) -> Account:
    """Say what somebody may do from now on."""
    row = _there(session, name)
    row.role = role
    return row


def _sign_out_everywhere(session: Session, row: Account) -> None:
    for one in accounts.sign_ins_of(session, row.id):
        one.ended_at = now()


def sign_in(session: Session, name: str, password: str, *, address: str) -> str:
    """Sign somebody in; returns the secret that the browser keeps. What failed is counted and committed.

    Parameters
    ----------
    session : Session
    name, password : str
        As typed.
    address : str
        Where it comes from.

    Raises
    ------
    SlowedError
        If too many tries failed of late, by this name or from this address.
    RefusedError
        If name and password do not belong together.
    """
    who = [f"name {known_as(name)[:LONGEST_NAME]}", f"from {address}"]
    failed = {row.who: row for row in accounts.attempts(session, who)}
    longest = dict(zip(who, (signing_in.OF_NAME_S, signing_in.LONGEST_WAIT_S), strict=True))
    waits = max((signing_in.wait_s(row.failed, _ago_s(row), longest[row.who]) for row in failed.values()), default=0.0)
    if waits > 0:
        raise SlowedError(f"Too many tries failed. Try again in {_told(waits)}.")
    # Counted before it is known: many tries at once gain nothing.
    for one in who:
        anew = one not in failed or _ago_s(failed[one]) > signing_in.FORGOTTEN.total_seconds()
        accounts.count_failure(session, one, anew=anew)
    session.commit()
    row = accounts.named(session, known_as(name))
    usable = row is not None and row.ended_at is None
    nobodys = _nobodys()  # also for who is known, or the first to come would tell
    if not _fits(row.password if row is not None and usable else nobodys, password[: signing_in.LONGEST + 1]) or (
        row is None or not usable
    ):
        raise RefusedError(_WRONG)
    accounts.forget_failures(session, who[0])
    accounts.forget_failures(session, who[1])
    if _HASHER.check_needs_rehash(row.password):
        row.password = _hash(password)
    token = secrets.token_urlsafe(32)
    session.add(SignIn(account_id=row.id, token=_hashed(token)))
    return token


def _ago_s(row: accounts.SignInAttempt) -> float:
    return (now() - row.last_at).total_seconds()


def _told(seconds: float) -> str:
    return f"{seconds / 60:.0f} minutes" if seconds > 90 else f"{max(1, round(seconds))} s"


def _hashed(token: str) -> str:
    return sha256(token.encode()).hexdigest()


def who_is(session: Session, token: str) -> Account | None:
    """Return who a browser's secret stands for, while that counts."""
    found = accounts.signed_in(session, _hashed(token)) if token else None
    if found is None:
        return None
    account, own = found
    idle, lasted = now() - own.seen_at, now() - own.made_at
    if account.ended_at is not None or own.ended_at is not None or idle > signing_in.IDLE or lasted > signing_in.LASTS:
        return None
    if idle.total_seconds() > 60:
        own.seen_at = now()
        session.commit()
    return account


def sign_out(session: Session, token: str) -> None:
    """End one browser's being signed in."""
    found = accounts.signed_in(session, _hashed(token)) if token else None
    if found is not None:
        found[1].ended_at = now()
