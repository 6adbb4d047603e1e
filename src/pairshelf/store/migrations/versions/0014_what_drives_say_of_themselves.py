"""What readings say of drives, when their surface was last read, and pools that act before a drive dies"""

from alembic import op

revision = "0014"
down_revision = "0013"

_CHANGES = """
create table drive_health (
    drive_id integer primary key references drive on delete cascade,
    level smallint not null default 0,
    reasons jsonb not null default '[]',
    since timestamptz not null,
    -- Since when there are sectors that cannot be read, while there are.
    unreadable_since timestamptz,
    -- The last surface scan that came to its end: when it began and ended, and what it found.
    scan_began timestamptz,
    scan_ended timestamptz,
    scan_found jsonb,
    constraint known_level check (level between 0 and 3),
    constraint a_scan_has_both_ends check ((scan_began is null) = (scan_ended is null))
);
create index drive_not_well on drive_health (level) where level > 1;

-- A member that is failing by its readings is copied onto a spare by itself, while it still reads.
alter table pool add column acts_early boolean not null default false;

alter table job drop constraint only_a_wipe_is_of_no_pool,
    add constraint only_drives_are_of_no_pool check (pool_id is not null or kind in ('wipe', 'scan'));

create trigger told after insert or update or delete on drive_health for each statement execute function tell_screens();
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_CHANGES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
