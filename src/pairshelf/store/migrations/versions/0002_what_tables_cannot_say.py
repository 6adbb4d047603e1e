"""The job queue, and the rules that need a trigger: notices, an unalterable logbook, volumes that fit"""

from alembic import op
from procrastinate.schema import SchemaManager

revision = "0002"
down_revision = "0001"

_TOLD = (
    "site",
    "shelf",
    "drive",
    "pool",
    "pool_place",
    "volume",
    "change_sheet",
    "job",
    "logbook",
    "setting",
    "sample_file",
)

_RULES = """
create function tell_screens() returns trigger language plpgsql as $$
begin
    perform pg_notify('pairshelf', tg_table_name);
    return null;
end $$;

create function refuse_change() returns trigger language plpgsql as $$
begin
    raise exception 'the logbook cannot be changed' using errcode = 'restrict_violation';
end $$;
create trigger unalterable before update or delete on logbook for each row execute function refuse_change();
create trigger unemptied before truncate on logbook for each statement execute function refuse_change();

create function volume_fits() returns trigger language plpgsql as $$
declare room bigint;
begin
    select capacity into room from pool where id = new.pool_id for update;
    if new.first + new.extents > room then
        raise exception 'volume % is larger than its pool allows', new.name using errcode = 'check_violation';
    end if;
    if exists (select 1 from volume v where v.pool_id = new.pool_id and v.id <> new.id
               and v.first < new.first + new.extents and new.first < v.first + v.extents) then
        raise exception 'volume % lies over another', new.name using errcode = 'exclusion_violation';
    end if;
    return new;
end $$;
create trigger fits before insert or update on volume for each row execute function volume_fits();
"""


def upgrade() -> None:
    # Sent as they are: a percent sign in them is no parameter.
    raw = op.get_bind().connection.driver_connection
    raw.execute(SchemaManager.get_schema())
    raw.execute(_RULES)
    for table in _TOLD:
        raw.execute(
            f"create trigger told after insert or update or delete on {table} "
            "for each statement execute function tell_screens()"
        )


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
