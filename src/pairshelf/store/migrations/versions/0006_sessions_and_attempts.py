"""Sessions are rows that end; known devices; failed attempts counted by whoever makes them"""

from alembic import op

revision = "0006"
down_revision = "0005"

_TABLES = """
create table session (
    id serial primary key,
    user_id integer not null references app_user,
    token_hash text not null unique,
    address text not null,
    agent text not null,
    created_at timestamptz not null default now(),
    seen_at timestamptz not null default now(),
    ended_at timestamptz
);
create index session_of on session (user_id) where ended_at is null;

create table known_device (
    token_hash text not null,
    user_id integer not null references app_user,
    seen_at timestamptz not null default now(),
    primary key (token_hash, user_id)
);

create table attempts (
    key text primary key,
    failures integer not null default 0,
    last_at timestamptz not null,
    wait_until timestamptz not null
);
create index attempts_last on attempts (last_at);
drop table sign_in_attempt;

-- The worker writes its sign of life there every two seconds; no screen needs to hear of that.
drop trigger told on setting;
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_TABLES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
