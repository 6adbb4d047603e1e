"""Signing in and out, the first administrator, and the users."""

from __future__ import annotations

import datetime as dt
from typing import Any

import flask_login
from flask import request
from flask_openapi3 import APIBlueprint
from flask_wtf.csrf import generate_csrf
from pydantic import BaseModel, Field
from sqlalchemy import Text, bindparam, func, update
from sqlalchemy import cast as sql_cast
from sqlmodel import col, select

from pairshelf.api import accounts
from pairshelf.api.guard import needs, signed_in
from pairshelf.core.acts import Act, Role, acts_of
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.engine.log import log
from pairshelf.store.database import engine, transaction
from pairshelf.store.tables import User, now

api = APIBlueprint("sessions", __name__, url_prefix="/api")
manager = flask_login.LoginManager()

#: Away for longer than this, and what finished meanwhile is shown on return.
AWAY = dt.timedelta(minutes=20)


_USER = select(sql_cast(func.pg_current_snapshot(), Text).label("snapshot"), User).where(
    col(User.id) == bindparam("id")
)


class Session(flask_login.UserMixin):
    """A signed-in user, as flask-login wants it."""

    def __init__(self, row: User, snapshot: str = "") -> None:
        self.row = row
        #: What the database showed when the user was looked up.
        self.snapshot = snapshot

    def get_id(self) -> str:
        """The id, with a mark of the password: changing it ends all sessions."""
        return f"{self.row.id}:{self.row.password_hash[-12:]}"


@manager.user_loader
def _load(identity: str) -> Session | None:
    number, _, mark = identity.partition(":")
    # Asked with every request: a statement without a transaction around it.
    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        found = connection.execute(_USER, {"id": int(number) if number.isdigit() else 0}).first()
    if found is None or not found.active or found.password_hash[-12:] != mark:
        return None
    values = dict(found._mapping)
    snapshot = values.pop("snapshot")
    row = User(**values)
    if row.seen_at is None or now() - row.seen_at > dt.timedelta(minutes=1):
        if row.seen_at is not None and now() - row.seen_at > AWAY:
            row.previously_seen_at = row.seen_at
        row.seen_at = now()
        seen = {"seen_at": row.seen_at, "previously_seen_at": row.previously_seen_at}
        with engine().begin() as connection:
            connection.execute(update(User).where(col(User.id) == row.id).values(seen))
    return Session(row, snapshot)


class UserOut(BaseModel):
    id: int
    name: str
    role: Role
    active: bool = True
    acts: list[str] = Field(default_factory=list)


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
    return UserOut(id=row.id or 0, name=row.name, role=Role(row.role), active=row.active, acts=acts_of(row.role))


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
    user = accounts.sign_in(body.name, body.password, request.remote_addr or "")
    flask_login.login_user(Session(user))
    return _me(user)


@api.post("/sign-out", responses={200: MeOut})
@needs(None)
def sign_out() -> Any:
    """Sign out."""
    flask_login.logout_user()
    return _me(None)


@api.post("/setup", responses={200: MeOut})
@needs(None)
def setup(body: SetupBody) -> Any:
    """Create the administrator with the link of the first start."""
    user = accounts.create_administrator(body.token, body.name, body.password)
    flask_login.login_user(Session(user))
    return _me(user)


@api.post("/password", responses={200: MeOut})
@needs(Act.LOOK)
def change_password(body: PasswordBody) -> Any:
    """Change one's own password; other sessions of the same user end."""
    user = signed_in()
    accounts.confirm_password(user, body.old, request.remote_addr or "")
    with transaction() as session:
        row = session.get(User, user.id)
        assert row is not None
        row.password_hash = accounts.hashed(body.new)
        log(session, user.name, "password-changed", user.name, f"{user.name} changed the password.")
    flask_login.login_user(Session(row))
    return _me(row)


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
            raise BadInput("There is no such user.", code="not-found")
        if body.role is not None:
            if body.role not in set(Role):
                raise BadInput(f"“{body.role}” is not a role.", field="role")
            row.role = body.role
        if body.active is not None:
            row.active = body.active
        if body.password is not None:
            row.password_hash = accounts.hashed(body.password)
        if not any(u.active and u.role == Role.ADMINISTRATOR for u in everyone):
            raise NotPossible("One administrator must remain.", code="last-administrator")
        log(session, signed_in().name, "user-changed", row.name, f"User {row.name} changed.",
            role=row.role, active=row.active)  # fmt: skip
    return _out(row)
