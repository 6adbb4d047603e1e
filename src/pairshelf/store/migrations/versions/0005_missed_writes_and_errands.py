"""What absent members missed, noted before the first byte; errands on devices and hosts; passphrases not yet kept"""

from alembic import op

revision = "0005"
down_revision = "0004"

_TABLES = """
alter table pool_place add column absence integer not null default 0,
    add column incomplete boolean not null default false;

create table missed_write (
    place_id integer not null references pool_place on delete cascade,
    absence integer not null,
    primary key (place_id, absence)
);

update pool_place p set absence = 1, incomplete = p.away_since is distinct from w.writes
    from pool w where w.id = p.pool_id and p.state = 'missing';
alter table pool_place drop column away_since;
alter table pool drop column writes, add column passphrase_kept boolean not null default true;

create table errand (
    id serial primary key,
    sheet_id integer references change_sheet,
    subject text not null,
    what text not null,
    facts jsonb not null,
    made_at timestamptz not null default now(),
    done_at timestamptz,
    why text
);
create index errand_open on errand (id) where done_at is null;
create index errand_of on errand (sheet_id);
create trigger told after insert or update or delete on errand for each statement execute function tell_screens();
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_TABLES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
