"""Users: passwords, the first administrator, sign-in and its limits."""

from __future__ import annotations

import datetime as dt
import hashlib
import secrets
import threading
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError
from sqlalchemy import delete, update
from sqlmodel import Session, col, select

from pairshelf.core.domain.acts import Role
from pairshelf.core.domain.names import check_name
from pairshelf.core.errors import BadInput, Denied, NameTaken, NotFound, NotPossible, NotSignedIn
from pairshelf.engine import keys
from pairshelf.engine.log import SYSTEM, log
from pairshelf.services import attempts
from pairshelf.store.clock import wall
from pairshelf.store.database import tell, transaction
from pairshelf.store.tables import KnownDevice, PoolRow, SessionRow, Setting, User

LEAST_PASSWORD = 8
#: A session nobody used for so long has ended.
SESSION_IDLE = dt.timedelta(days=14)
_SESSIONS_KEPT, _DEVICES_KEPT = dt.timedelta(days=90), dt.timedelta(days=400)
#: Passwords are looked at one or two at a time: each takes 64 MiB and a tenth of a second.
_CHECKS = threading.BoundedSemaphore(2)

_hasher = PasswordHasher()


@cache
def _nobody() -> str:
    """Checked when there is no such user, so that both answers take as long. Not made before somebody signs in: most
    processes never see anybody."""
    return _hasher.hash(secrets.token_hex())


def add_user(session: Session, name: str, password: str, role: str, who: str = SYSTEM) -> User:
    """A new user. Raises BadInput for a name, a role or a password that will not do."""
    name = check_name(name, "user", field="name").lower()
    if role not in set(Role):
        raise BadInput(f"“{role}” is not a role.", field="role")
    if session.exec(select(User.id).where(User.name == name)).first() is not None:
        raise NameTaken("user", name)
    user = User(name=name, role=role, password_hash=hashed(password))
    session.add(user)
    log(session, who, "user-added", name, f"User {name} added as {role}.")
    return user


def hashed(password: str, field: str = "password") -> str:
    """A password as it is kept; BadInput when it is too short or too long."""
    if len(password) < LEAST_PASSWORD:
        raise BadInput(f"A password has at least {LEAST_PASSWORD} characters.", field=field)
    if len(password) > 500:
        raise BadInput("A password has at most 500 characters.", field=field)
    if not password.isprintable():
        raise BadInput("There is a character in it that cannot be typed.", field=field)
    return _hasher.hash(password)


def verify(user: User | None, password: str) -> bool:
    """Whether the password is the user's; takes as long when there is no such user."""
    nobody = _nobody()
    with _CHECKS:
        try:
            _hasher.verify(user.password_hash if user else nobody, password)
        except (VerificationError, InvalidHashError, UnicodeError):
            return False
    return user is not None and user.active


def sign_in(name: str, password: str, address: str, device: str = "") -> User:
    """The user, or Denied; attempts that fail make whoever makes them wait, longer and longer.

    ``device``: the token of the browser, where it has one.
    """
    name = name.strip().lower()[:60]
    with transaction() as session:
        user = session.exec(select(User).where(User.name == name)).first() if name.isprintable() else None
        known = session.get(KnownDevice, (digest(device), user.id)) if user is not None and device else None
    counters = attempts.of_sign_in(name, address, known.token_hash[:24] if known else None)
    attempts.claim(counters)
    if not verify(user, password):
        raise NotSignedIn("Name or password is wrong.", code="wrong-password", field="password")
    assert user is not None
    attempts.forgive(counters)
    with transaction() as session:
        log(session, name, "signed-in", name, f"{name} signed in.")
    return user


def confirm_password(user: User, password: str, session_id: int) -> None:
    """Ask the signed-in user for the password once more; counted by session, so that nobody else's guessing
    stands in the way."""
    counters = attempts.of_session(session_id)
    attempts.claim(counters)
    with transaction() as session:
        row = session.get(User, user.id)
    if not verify(row, password):
        raise Denied("The password is wrong.", code="wrong-password", field="password")
    attempts.forgive(counters)


def unlock_pool(pool_id: int, passphrase: str, who: str, counters: list[attempts.Counter]) -> PoolRow:
    """Open a pool's key with its passphrase; guessing is slowed as at signing in."""
    with transaction() as session:
        row = session.get(PoolRow, pool_id)
        if row is None:
            raise NotFound("pool")
        if row.key is None:
            raise NotPossible("This pool is not encrypted.", code="not-encrypted")
    attempts.claim(counters)
    try:
        with _CHECKS:
            key = keys.unwrap(row.key, passphrase)
    except BadInput:
        with transaction() as session:
            log(session, who, "pool-not-unlocked", row.name, f"A wrong passphrase was given for pool {row.name}.")
        raise
    attempts.forgive(counters)
    keys.open_key(pool_id, key)
    with transaction() as session:
        log(session, who, "pool-unlocked", row.name, f"Pool {row.name} unlocked.")
        tell(session, "pool")
    return row


# -- sessions --------------------------------------------------------------------------------------


def begin_session(user: User, address: str, agent: str) -> str:
    """A session of this user; the token that stands for it."""
    token = secrets.token_urlsafe(32)
    agent = "".join(c for c in agent if c.isprintable())[:200]
    with transaction() as session:
        session.add(SessionRow(user_id=user.number, token_hash=digest(token), address=address, agent=agent))
        session.connection().execute(delete(SessionRow).where(col(SessionRow.seen_at) < wall() - _SESSIONS_KEPT))
    return token


def end_sessions(session: Session, user_id: int, *, but: int | None = None) -> None:
    """End a user's sessions, all of them or all but one."""
    ending = update(SessionRow).where(col(SessionRow.user_id) == user_id, col(SessionRow.ended_at).is_(None))
    if but is not None:
        ending = ending.where(col(SessionRow.id) != but)
    session.connection().execute(ending.values(ended_at=wall()))


def remember_device(user: User, device: str) -> str:
    """Know this browser from now on; the token it is known by."""
    token = device if 20 <= len(device) <= 100 and device.isascii() else secrets.token_urlsafe(32)
    with transaction() as session:
        session.merge(KnownDevice(token_hash=digest(token), user_id=user.number, seen_at=wall()))
        session.connection().execute(delete(KnownDevice).where(col(KnownDevice.seen_at) < wall() - _DEVICES_KEPT))
    return token


def forget_devices(session: Session, user_id: int) -> None:
    """No browser is known for this user any more."""
    session.connection().execute(delete(KnownDevice).where(col(KnownDevice.user_id) == user_id))


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
        session.merge(Setting(key="setup", value={"sha256": digest(token)}))
    return f"/setup?token={token}"


def create_administrator(token: str, name: str, password: str) -> User:
    """The first user, for whoever holds the link; it works once."""
    with transaction() as session:
        setting = session.get(Setting, "setup", with_for_update=True)
        if setting is None or not nobody_yet(session):
            raise Denied("This link has been used, or was never given out.", code="link-used")
        if not secrets.compare_digest(setting.value["sha256"], digest(token)):
            raise Denied(
                "This link is not valid; the newest one stands where Pair Shelf was started.",
                code="link-wrong",
            )
        user = add_user(session, name, password, Role.ADMINISTRATOR)
        session.delete(setting)
        return user


def digest(token: str) -> str:
    """What is kept of a token."""
    return hashlib.sha256(token.encode("utf-8", "surrogatepass")).hexdigest()


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
