"""Drives say themselves what their pool is: its record, what of it is not on them yet, what new drives bear"""

from contextlib import suppress

from alembic import op

from pairshelf.store.settings import settings

revision = "0012"
down_revision = "0011"

_CHANGES = """
alter table pool add column uid text;
update pool set uid = md5(id || ' ' || name || ' ' || created_at);
alter table pool alter column uid set not null, add constraint one_pool_of_a_uid unique (uid);
alter table volume add column sealed_as bigint;
alter table drive add column bears jsonb;
create index drive_bears on drive (id) where bears is not null;

create table pool_record (
    pool_id integer primary key,
    generation bigint not null,
    turn integer not null,
    written_at timestamptz not null,
    size bigint not null,
    brought jsonb,
    reached jsonb not null
);
-- Only ever added to by who changes something, so that nobody waits for whoever writes records.
create table record_due (
    id bigint generated always as identity primary key,
    pool_id integer not null,
    before_bytes boolean not null,
    made_by xid8 not null default pg_current_xact_id()
);
create index ix_record_due_pool_id on record_due (pool_id);

-- One line for a pool in a transaction is enough. What another transaction has noted does not count: it may be
-- written down before this one has been committed.
create function note_record_due(pools integer[], first boolean) returns void language sql as $$
    insert into record_due (pool_id, before_bytes)
    select distinct p, first from unnest(pools) p where p is not null and not exists (
        select 1 from record_due d
        where d.pool_id = p and d.made_by = pg_current_xact_id() and (d.before_bytes or not first))
$$;

create function record_due_of_pools() returns trigger language plpgsql as $$
begin
    -- Before another byte is written: where its bytes lie. Afterwards is soon enough: what it is called.
    perform note_record_due(array(
        select n.id from new_rows n join old_rows o using (id)
        where (n.scheme, n.sets, n.bands, n.walk, n.front, n.turned, n.moves, n.key)
            is distinct from (o.scheme, o.sets, o.bands, o.walk, o.front, o.turned, o.moves, o.key)), true);
    perform note_record_due(array(select id from new_rows), false);
    return null;
end $$;
create function record_due_of_places() returns trigger language plpgsql as $$
begin
    perform note_record_due(array(
        select unnest(array[n.pool_id, o.pool_id]) from new_rows n join old_rows o using (id)
        where (n.pool_id, n.slot, n.to_slot, n.drive_id, n.state, n.absence, n.incomplete)
            is distinct from (o.pool_id, o.slot, o.to_slot, o.drive_id, o.state, o.absence, o.incomplete)), true);
    perform note_record_due(array(select pool_id from new_rows), false);
    return null;
end $$;
create function record_due_first() returns trigger language plpgsql as $$
begin
    perform note_record_due(array(select pool_id from changed), true);
    return null;
end $$;
create function record_due_soon() returns trigger language plpgsql as $$
begin
    perform note_record_due(array(select pool_id from changed), false);
    return null;
end $$;
create function record_due_of_volumes() returns trigger language plpgsql as $$
begin
    perform note_record_due(array(
        select distinct v.pool_id from changed c join volume v on v.id = c.volume_id), false);
    return null;
end $$;
create function record_due_of_all() returns trigger language plpgsql as $$
begin
    perform note_record_due(array(
        select v.pool_id from volume v where v.id in (select volume_id from share union select volume_id from target_lun)
    ), false);
    return null;
end $$;

create trigger record_due after update on pool referencing new table as new_rows old table as old_rows
    for each statement execute function record_due_of_pools();
create trigger record_due_new after insert on pool_place referencing new table as changed
    for each statement execute function record_due_first();
create trigger record_due_gone after delete on pool_place referencing old table as changed
    for each statement execute function record_due_first();
create trigger record_due after update on pool_place referencing new table as new_rows old table as old_rows
    for each statement execute function record_due_of_places();
"""

#: Tables with a pool, and tables with a volume.
_SOON = ("volume", "volume_piece", "volume_stripes", "backup")
_OF_VOLUMES = ("sample_file", "keep_rule", "mount", "share", "target_lun")
_OF_ALL = ("share_right", "target", "target_right")


def _triggers() -> str:
    made = []
    for tables, act in ((_SOON, "record_due_soon"), (_OF_VOLUMES, "record_due_of_volumes")):
        for table in tables:
            for when, rows in (("insert", "new"), ("update", "new"), ("delete", "old")):
                made.append(
                    f"create trigger record_due_{when} after {when} on {table} referencing {rows} table as changed "
                    f"for each statement execute function {act}();"
                )
    for table in _OF_ALL:
        made.append(
            f"create trigger record_due after insert or update or delete on {table} "
            "for each statement execute function record_due_of_all();"
        )
    return "\n".join(made)


def upgrade() -> None:
    connection = op.get_bind().connection.driver_connection
    connection.execute(_CHANGES + _triggers())
    connection.execute("select note_record_due(array(select id from pool), true)")
    # The same each time, should it have to be done again: a journal may hold a write that a crash interrupted.
    journals = settings().devices / "journals"
    for pool_id, uid in connection.execute("select id, uid from pool").fetchall():
        with suppress(FileNotFoundError):
            (journals / f"pool-{pool_id}").rename(journals / f"pool-{uid}")


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
