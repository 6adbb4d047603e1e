"""Users: passwords, the first administrator, sign-in and its limits."""

from __future__ import annotations

import datetime as dt
import hashlib
import secrets

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, func
from sqlmodel import Session, col, select

from pairshelf.api.problems import Denied
from pairshelf.core.acts import Role
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.names import check_name
from pairshelf.engine.log import SYSTEM, log
from pairshelf.store.database import transaction
from pairshelf.store.tables import Setting, SignInAttempt, User, now

LEAST_PASSWORD = 8
#: Failed sign-ins within the window before a name, or an address, has to wait.
MOST_FAILURES, MOST_FAILURES_OF_ADDRESS = 5, 30
WINDOW = dt.timedelta(minutes=10)

_hasher = PasswordHasher()
#: Checked when there is no such user, so that both answers take as long.
_NOBODY = _hasher.hash(secrets.token_hex())


def add_user(session: Session, name: str, password: str, role: str, who: str = SYSTEM) -> User:
    """A new user. Raises BadInput for a name, a role or a password that will not do."""
    name = check_name(name, "user", field="name").lower()
    if role not in set(Role):
        raise BadInput(f"“{role}” is not a role.", field="role")
    if session.exec(select(User.id).where(User.name == name)).first() is not None:
        raise NotPossible(f"There is a user {name} already.", code="name-taken", field="name")
    user = User(name=name, role=role, password_hash=hashed(password))
    session.add(user)
    log(session, who, "user-added", name, f"User {name} added as {role}.")
    return user


def hashed(password: str) -> str:
    """A password as it is kept; BadInput when it is too short or too long."""
    if len(password) < LEAST_PASSWORD:
        raise BadInput(f"A password has at least {LEAST_PASSWORD} characters.", field="password")
    if len(password) > 500:
        raise BadInput("A password has at most 500 characters.", field="password")
    return _hasher.hash(password)


def verify(user: User | None, password: str) -> bool:
    """Whether the password is the user's; takes as long when there is no such user."""
    try:
        _hasher.verify(user.password_hash if user else _NOBODY, password)
    except (VerificationError, InvalidHashError):
        return False
    return user is not None and user.active


def sign_in(name: str, password: str, address: str) -> User:
    """The user, or Denied; after too many failures every attempt is refused for a while."""
    name = name.strip().lower()[:60]
    with transaction() as session:
        _limit(session, name, address)
        user = session.exec(select(User).where(User.name == name)).first()
        # Counted before it is known to be wrong, so that attempts side by side count too.
        session.add(SignInAttempt(name=name, address=address))
    if not verify(user, password):
        raise Denied("Name or password is wrong.", code="wrong-password", status=401, field="password")
    assert user is not None
    with transaction() as session:
        session.connection().execute(delete(SignInAttempt).where(col(SignInAttempt.name) == name))
        log(session, name, "signed-in", name, f"{name} signed in.")
    return user


def confirm_password(user: User, password: str, address: str) -> None:
    """Ask the signed-in user for the password once more; counted like a sign-in."""
    with transaction() as session:
        _limit(session, user.name, address)
        if verify(session.get(User, user.id), password):
            return
        session.add(SignInAttempt(name=user.name, address=address))
    raise Denied("The password is wrong.", code="wrong-password", status=403, field="password")


def limit_attempts(session: Session, name: str, address: str) -> None:
    """Denied after too many failed attempts at a name or from an address."""
    _limit(session, name, address)


def count_attempt(session: Session, name: str, address: str) -> None:
    """One more failed attempt."""
    session.add(SignInAttempt(name=name, address=address))


def _limit(session: Session, name: str, address: str) -> None:
    since = now() - WINDOW
    session.connection().execute(delete(SignInAttempt).where(col(SignInAttempt.at) < since))
    mine = session.exec(select(func.count()).select_from(SignInAttempt).where(SignInAttempt.name == name)).one()
    theirs = session.exec(select(func.count()).select_from(SignInAttempt).where(SignInAttempt.address == address)).one()
    if mine >= MOST_FAILURES or theirs >= MOST_FAILURES_OF_ADDRESS:
        minutes = int(WINDOW.total_seconds() // 60)
        raise Denied(
            f"Too many failed attempts; wait {minutes} minutes and try again.",
            code="too-many-attempts",
            status=429,
        )


# -- the first administrator -----------------------------------------------------------------------


def nobody_yet(session: Session) -> bool:
    """Whether there is no user at all."""
    return session.exec(select(User.id).limit(1)).first() is None


def setup_link() -> str | None:
    """The path that creates the administrator, anew at each start until it has been used."""
    with transaction() as session:
        if not nobody_yet(session):
            return None
        token = secrets.token_urlsafe(24)
        session.merge(Setting(key="setup", value={"sha256": _digest(token)}))
    return f"/setup?token={token}"


def create_administrator(token: str, name: str, password: str) -> User:
    """The first user, for whoever holds the link; it works once."""
    with transaction() as session:
        setting = session.get(Setting, "setup", with_for_update=True)
        if setting is None or not nobody_yet(session):
            raise Denied("This link has been used, or was never given out.", code="link-used")
        if not secrets.compare_digest(setting.value["sha256"], _digest(token)):
            raise Denied(
                "This link is not valid; the newest one stands where Pair Shelf was started.",
                code="link-wrong",
            )
        user = add_user(session, name, password, Role.ADMINISTRATOR)
        session.delete(setting)
        return user


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def secret_key() -> str:
    """What signs the session cookies; made once and shared by all web processes."""
    with transaction() as session:
        session.connection().exec_driver_sql(
            "insert into setting (key, value) values ('secret-key', jsonb_build_object('key', %s::text)) on conflict do nothing",
            (secrets.token_hex(32),),
        )
        setting = session.get(Setting, "secret-key")
        assert setting is not None
        key: str = setting.value["key"]
        return key
