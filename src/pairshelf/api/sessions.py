"""Signing in and out, the first administrator, and the users."""

from __future__ import annotations

import datetime as dt
import hashlib
from typing import Any

import flask_login
from flask import Response, current_app, g, request
from flask_openapi3 import APIBlueprint
from flask_wtf.csrf import generate_csrf
from pydantic import BaseModel, Field
from sqlalchemy import Text, bindparam, func, update
from sqlalchemy import cast as sql_cast
from sqlmodel import col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act, Role, acts_of, why_not
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.engine.log import log
from pairshelf.services import accounts
from pairshelf.store.clock import wall
from pairshelf.store.database import engine, transaction
from pairshelf.store.settings import settings
from pairshelf.store.tables import SessionRow, User, now

api = APIBlueprint("sessions", __name__, url_prefix="/api")
manager = flask_login.LoginManager()

#: Away for longer than this, and what finished meanwhile is shown on return.
AWAY = dt.timedelta(minutes=20)
_A_MINUTE = dt.timedelta(minutes=1)


_WHO: Any = select(
    sql_cast(func.pg_current_snapshot(), Text).label("snapshot"), col(SessionRow.id).label("session_id"),
    col(SessionRow.seen_at).label("session_seen_at"), User,
).join(SessionRow, col(SessionRow.user_id) == User.id).where(
    col(SessionRow.token_hash) == bindparam("token"), col(SessionRow.ended_at).is_(None),
    col(SessionRow.seen_at) > bindparam("since"), col(User.active),
)  # fmt: skip


def cookie_of(secret: str | None, what: str) -> str:
    """The name of a cookie of this installation: browsers send cookies to every port of a host name, so that two
    installations on one would end each other's sessions."""
    mark = hashlib.sha256(f"cookies of {secret}".encode()).hexdigest()[:8] if secret else "installation"
    return f"pairshelf-{mark}-{what}"


def _device_cookie() -> str:
    """The cookie of a browser on which somebody has signed in before."""
    name: str = current_app.config["DEVICE_COOKIE"]
    return name


class Session(flask_login.UserMixin):  # type: ignore[misc]
    """A signed-in user, as flask-login wants it."""

    def __init__(self, row: User, token: str, session_id: int = 0, snapshot: str = "") -> None:
        self.row, self.token, self.session_id = row, token, session_id
        #: What the database showed when the user was looked up.
        self.snapshot = snapshot

    def get_id(self) -> str:
        """What the cookie carries."""
        return self.token


@manager.user_loader
def _load(token: str) -> Session | None:
    # Asked with every request: a statement without a transaction around it.
    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        found = connection.execute(
            _WHO, {"token": accounts.digest(token), "since": wall() - accounts.SESSION_IDLE}
        ).first()
    if found is None:
        return None
    values = dict(found._mapping)
    snapshot, number, seen = (values.pop(k) for k in ("snapshot", "session_id", "session_seen_at"))
    row = User(**values)
    if seen < wall() - _A_MINUTE:
        with engine().begin() as connection:
            connection.execute(update(SessionRow).where(col(SessionRow.id) == number).values(seen_at=wall()))
    if row.seen_at is None or row.seen_at < now() - _A_MINUTE:
        if row.seen_at is not None and now() - row.seen_at > AWAY:
            row.previously_seen_at = row.seen_at
        row.seen_at = now()
        told = {"seen_at": row.seen_at, "previously_seen_at": row.previously_seen_at}
        with engine().begin() as connection:
            connection.execute(update(User).where(col(User.id) == row.id).values(told))
    return Session(row, token, number, snapshot)


def _enter(user: User) -> None:
    """This browser is signed in, and known from now on."""
    token = accounts.begin_session(user, request.remote_addr or "", request.headers.get("User-Agent", ""))
    flask_login.login_user(Session(user, token))
    g.device = accounts.remember_device(user, request.cookies.get(_device_cookie(), ""))


def remember(response: Response) -> Response:
    """Give the browser the cookie by which it is known."""
    if device := g.pop("device", None):
        response.set_cookie(
            _device_cookie(),
            device,
            max_age=34_560_000,
            httponly=True,
            samesite="Lax",
            secure=settings().secure_cookies,
        )
    return response


def own_session() -> int:
    """The session of this request."""
    number: int = flask_login.current_user.session_id
    return number


class UserOut(BaseModel):
    id: int
    name: str
    role: Role
    active: bool = True
    acts: list[str] = Field(default_factory=list)
    #: Acts that are not allowed, with why not and to whom they are.
    denied: dict[str, str] = Field(default_factory=dict)


class MeOut(BaseModel):
    user: UserOut | None
    csrf: str
    setup_needed: bool


class SignInBody(BaseModel):
    name: str
    password: str


class SetupBody(BaseModel):
    token: str
    name: str
    password: str


class UsersOut(BaseModel):
    users: list[UserOut]


class NewUserBody(BaseModel):
    name: str
    password: str
    role: str


class SessionOut(BaseModel):
    id: int
    address: str
    agent: str
    created_at: dt.datetime
    seen_at: dt.datetime
    #: The one that asks.
    own: bool


class SessionsOut(BaseModel):
    sessions: list[SessionOut]


class SessionPath(BaseModel):
    session_id: int


class UserPath(BaseModel):
    user_id: int


class UserChange(BaseModel):
    role: str | None = None
    active: bool | None = None
    password: str | None = None


class PasswordBody(BaseModel):
    old: str
    new: str


def _out(row: User) -> UserOut:
    return UserOut(id=row.number, name=row.name, role=Role(row.role), active=row.active, acts=acts_of(row.role),
                   denied={act.value: why for act in Act if (why := why_not(row.role, act))})  # fmt: skip


def _me(row: User | None) -> MeOut:
    with transaction() as session:
        return MeOut(
            user=_out(row) if row else None,
            csrf=generate_csrf(),
            setup_needed=row is None and accounts.nobody_yet(session),
        )


@api.get("/me", responses={200: MeOut})
@needs(None)
def me() -> Any:
    """Who is signed in, and the token that changes need."""
    user = flask_login.current_user
    return _me(user.row if user.is_authenticated else None)


@api.post("/sign-in", responses={200: MeOut})
@needs(None)
def sign_in(body: SignInBody) -> Any:
    """Sign in."""
    user = accounts.sign_in(
        body.name, body.password, request.remote_addr or "", request.cookies.get(_device_cookie(), "")
    )
    _enter(user)
    return _me(user)


@api.post("/sign-out", responses={200: MeOut})
@needs(None)
def sign_out() -> Any:
    """Sign out: the session ends, wherever its cookie may be."""
    user = flask_login.current_user
    if user.is_authenticated:
        with transaction() as session:
            ending = update(SessionRow).where(col(SessionRow.id) == user.session_id)
            session.connection().execute(ending.values(ended_at=wall()))
    flask_login.logout_user()
    return _me(None)


@api.post("/setup", responses={200: MeOut})
@needs(None)
def setup(body: SetupBody) -> Any:
    """Create the administrator with the link of the first start."""
    user = accounts.create_administrator(body.token, body.name, body.password)
    _enter(user)
    return _me(user)


@api.post("/password", responses={200: MeOut})
@needs(Act.LOOK)
def change_password(body: PasswordBody) -> Any:
    """Change one's own password; other sessions of the same user end."""
    user = signed_in()
    accounts.confirm_password(user, body.old, own_session())
    with transaction() as session:
        row = session.get(User, user.id)
        assert row is not None
        row.password_hash = accounts.hashed(body.new, field="new")
        accounts.end_sessions(session, row.number, but=own_session())
        log(session, user.name, "password-changed", user.name, f"{user.name} changed the password.")
    return _me(row)


@api.get("/sessions", responses={200: SessionsOut})
@needs(Act.LOOK)
def sessions() -> Any:
    """Where one is signed in, the latest used first."""
    with transaction() as session:
        rows = session.exec(
            select(SessionRow).where(
                SessionRow.user_id == signed_in().id, col(SessionRow.ended_at).is_(None),
                col(SessionRow.seen_at) > wall() - accounts.SESSION_IDLE,
            ).order_by(col(SessionRow.seen_at).desc()).limit(100)
        ).all()  # fmt: skip
    return SessionsOut(sessions=[
        SessionOut(id=r.number, address=r.address, agent=r.agent, created_at=r.created_at, seen_at=r.seen_at,
                   own=r.id == own_session())
        for r in rows
    ])  # fmt: skip


@api.delete("/sessions/<int:session_id>", responses={200: SessionsOut})
@needs(Act.LOOK)
def end_session(path: SessionPath) -> Any:
    """End one of one's own sessions."""
    with transaction() as session:
        row = session.get(SessionRow, path.session_id)
        if row is None or row.user_id != signed_in().id:
            raise NotFound("session of yours")
        row.ended_at = row.ended_at or wall()
    return sessions()


@api.get("/users", responses={200: UsersOut})
@needs(Act.MANAGE_USERS)
def users() -> Any:
    """All users."""
    with transaction() as session:
        return UsersOut(users=[_out(u) for u in session.exec(select(User).order_by(User.name))])


@api.post("/users", responses={200: UserOut})
@needs(Act.MANAGE_USERS)
def add_user(body: NewUserBody) -> Any:
    """Add a user."""
    with transaction() as session:
        row = accounts.add_user(session, body.name, body.password, body.role, signed_in().name)
    return _out(row)


@api.patch("/users/<int:user_id>", responses={200: UserOut})
@needs(Act.MANAGE_USERS)
def change_user(path: UserPath, body: UserChange) -> Any:
    """Change a user's role or password, or shut the user out. One administrator must remain."""
    with transaction() as session:
        everyone = session.exec(select(User).order_by(col(User.id)).with_for_update()).all()
        row = next((u for u in everyone if u.id == path.user_id), None)
        if row is None:
            raise NotFound("user")
        if body.role is not None:
            if body.role not in set(Role):
                raise BadInput(f"“{body.role}” is not a role.", field="role")
            row.role = body.role
        if body.active is not None:
            row.active = body.active
        if body.password is not None:
            row.password_hash = accounts.hashed(body.password)
        if body.password is not None or not row.active:
            accounts.end_sessions(session, row.number, but=own_session() if row.id == signed_in().id else None)
            accounts.forget_devices(session, row.number)
        if not any(u.active and u.role == Role.ADMINISTRATOR for u in everyone):
            raise NotPossible("One administrator must remain.", code="last-administrator")
        log(session, signed_in().name, "user-changed", row.name, f"User {row.name} changed.",
            role=row.role, active=row.active)  # fmt: skip
    return _out(row)
