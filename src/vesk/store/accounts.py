"""Accounts: who may come in from another machine, who is signed in, and how often somebody failed to."""

# No `from __future__ import annotations` here: table models read their annotations.
from datetime import datetime

from sqlalchemy import CheckConstraint
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, col, select

from vesk.core.kinds import Role
from vesk.store.columns import moment, now, word
from vesk.store.row import Row


class Account(Row, table=True):
    """Somebody who may come in from another machine. One that ended stays, for what was signed with it."""

    __table_args__ = (CheckConstraint("role IN ('may look', 'may change')"),)
    id: int = Field(default=None, primary_key=True)
    name: str
    known_as: str = Field(unique=True)  # the name, in whatever letters it is typed
    password: str  # what it hashes to, by Argon2
    role: Role = Field(sa_column=word(Role))
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    ended_at: datetime | None = Field(default=None, sa_column=moment(nullable=True))


class SignIn(Row, table=True):
    """A browser in which somebody signed in. What it holds is a secret; here is only what that hashes to."""

    __tablename__ = "sign_in"
    id: int = Field(default=None, primary_key=True)
    account_id: int = Field(foreign_key="account.id", index=True)
    token: str = Field(unique=True)
    made_at: datetime = Field(default_factory=now, sa_column=moment())
    seen_at: datetime = Field(default_factory=now, sa_column=moment())
    ended_at: datetime | None = Field(default=None, sa_column=moment(nullable=True))


class SignInAttempt(Row, table=True):
    """How often signing in failed of late, by name or from an address."""

    __tablename__ = "sign_in_attempt"
    who: str = Field(primary_key=True)
    failed: int
    last_at: datetime = Field(default_factory=now, sa_column=moment())


def every(session: Session) -> list[Account]:
    """Return all accounts, those that ended too, by name."""
    return list(session.exec(select(Account).order_by(Account.known_as)))


def named(session: Session, known_as: str) -> Account | None:
    """Return the account of a name, as it is known."""
    return session.exec(select(Account).where(Account.known_as == known_as)).first()


def are_there(session: Session) -> bool:
    """Say whether anybody may come in."""
    return session.exec(select(Account.id).where(col(Account.ended_at).is_(None))).first() is not None


def signed_in(session: Session, token: str) -> tuple[Account, SignIn] | None:
    """Return who is signed in by what a token hashes to, whether or not that still counts."""
    query = select(Account, SignIn).join(SignIn, col(SignIn.account_id) == Account.id).where(SignIn.token == token)
    return session.exec(query).first()


def sign_ins_of(session: Session, account_id: int) -> list[SignIn]:
    """Return the browsers in which somebody is signed in."""
    query = select(SignIn).where(SignIn.account_id == account_id, col(SignIn.ended_at).is_(None))
    return list(session.exec(query))


def attempts(session: Session, who: list[str]) -> list[SignInAttempt]:
    """Return what failed of late, by names and addresses."""
    return list(session.exec(select(SignInAttempt).where(col(SignInAttempt.who).in_(who))))


def count_failure(session: Session, who: str, *, anew: bool) -> None:
    """Count a failure; `anew` where the ones before are forgotten."""
    values = {"who": who, "failed": 1, "last_at": now()}
    failed = 1 if anew else SignInAttempt.__table__.c.failed + 1  # type: ignore[attr-defined]  # made by the library
    query = insert(SignInAttempt).values(values)
    session.execute(query.on_conflict_do_update(index_elements=["who"], set_={"failed": failed, "last_at": now()}))


def forget_failures(session: Session, who: str) -> None:
    """Forget what failed."""
    row = session.get(SignInAttempt, who)
    if row is not None:
        session.delete(row)
