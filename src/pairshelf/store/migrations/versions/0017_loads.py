"""Loads that are played on volumes, and what was measured of them last"""

from alembic import op

revision = "0017"
down_revision = "0016"

_CHANGES = """
create table play (
    volume_id integer primary key references volume on delete cascade,
    mix text not null,
    at_once integer not null,
    wanted double precision,
    since timestamptz not null,
    constraint asks_for_something check (at_once > 0 and (wanted is null or wanted > 0))
);

create table played (
    pool_id integer primary key references pool on delete cascade,
    at timestamptz not null,
    found jsonb not null
);
"""


def upgrade() -> None:
    connection = op.get_bind().connection.driver_connection
    connection.execute(_CHANGES)
    for table in ("play", "played"):
        connection.execute(
            f"create trigger told after insert or update or delete on {table} for each statement execute function tell_screens()"
        )


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
