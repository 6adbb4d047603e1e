"""Which pools a transaction has changed anything of, for who keeps what was worked out of them"""

from alembic import op

revision = "0018"
down_revision = "0017"

_CHANGES = """
-- Only ever added to by who changes something, so that nobody waits for anybody.
create table pool_change (
    made_by xid8 not null default pg_current_xact_id(),
    pool_id integer not null,
    primary key (made_by, pool_id)
);

create function note_pool_change(pools integer[]) returns void language sql as $$
    insert into pool_change (pool_id) select distinct p from unnest(pools) p where p is not null on conflict do nothing
$$;

-- What makes a record due is a change; once in a transaction is enough for both.
create or replace function note_record_due(pools integer[], first boolean) returns void language sql as $$
    with noted as (
        insert into record_due (pool_id, before_bytes)
        select distinct p, first from unnest(pools) p where p is not null and not exists (
            select 1 from record_due d
            where d.pool_id = p and d.made_by = pg_current_xact_id() and (d.before_bytes or not first))
        returning pool_id)
    insert into pool_change (pool_id) select pool_id from noted on conflict do nothing
$$;

create function change_of_pools() returns trigger language plpgsql as $$
begin
    perform note_pool_change(array(select id from changed));
    return null;
end $$;
create trigger noted_insert after insert on pool referencing new table as changed
    for each statement execute function change_of_pools();

-- What is of a pool, and in none of its records: the table of a drive that is one by itself.
create function change_of_tables() returns trigger language plpgsql as $$
begin
    perform note_pool_change(array(select pool_id from changed));
    return null;
end $$;
create function change_of_changed_tables() returns trigger language plpgsql as $$
begin
    perform note_pool_change(array(select pool_id from changed union select pool_id from before));
    return null;
end $$;
create trigger noted_insert after insert on partition_plan referencing new table as changed
    for each statement execute function change_of_tables();
create trigger noted_update after update on partition_plan referencing new table as changed old table as before
    for each statement execute function change_of_changed_tables();
create trigger noted_delete after delete on partition_plan referencing old table as changed
    for each statement execute function change_of_tables();
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_CHANGES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
