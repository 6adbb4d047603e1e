"""Volumes in pieces, spread pools, keys; hosts with mounts, shares, block targets, applications"""

from alembic import op

revision = "0004"
down_revision = "0003"

_TOLD = (
    "host", "volume_piece", "volume_stripes", "mount", "party", "party_member", "share", "share_right", "share_visit",
    "initiator", "target", "target_lun", "target_right", "application", "keep_rule", "partition_plan",
)  # fmt: skip

_TABLES = """
create extension if not exists btree_gist;

alter table pool add column domain text,
    add column key jsonb,
    add column promised jsonb not null default '{}',
    add column measured jsonb not null default '{}',
    add constraint spread_has_a_domain check ((scheme = 'spread') = (domain is not null));

alter table pool_place add column host text, add column site text, add column scope text not null default 'pool',
    drop constraint known_place_state,
    add constraint known_place_state check (state in ('active','missing','failed','rebuilding','emptied')),
    add constraint known_scope check (scope in ('pool', 'shelf', 'all'));

create table volume_piece (
    id serial primary key,
    pool_id integer not null references pool,
    volume_id integer not null references volume,
    at bigint not null check (at >= 0),
    first bigint not null check (first >= 0),
    count bigint not null check (count > 0),
    constraint no_piece_over_another exclude using gist (pool_id with =, int8range(first, first + count) with &&),
    constraint no_part_of_a_volume_twice exclude using gist (volume_id with =, int8range(at, at + count) with &&)
);
create index volume_piece_of on volume_piece (volume_id, at);
create index volume_piece_in on volume_piece (pool_id);
insert into volume_piece (pool_id, volume_id, at, first, count) select pool_id, id, 0, first, extents from volume;

create table volume_stripes (
    volume_id integer primary key references volume,
    pool_id integer not null references pool,
    placed bytea not null
);
create index volume_stripes_of on volume_stripes (pool_id);

alter table volume drop constraint one_volume_a_mount_point;
create table mount (
    id serial primary key,
    host_id integer not null references host,
    volume_id integer not null references volume,
    at text not null,
    read_only boolean not null default false,
    access_times boolean not null default false,
    required boolean not null default false,
    constraint one_volume_a_mount_point unique (host_id, at)
);
create index mount_of on mount (volume_id);
insert into mount (host_id, volume_id, at) select host_id, id, mount_point from volume
    where mount_point is not null and host_id is not null;

drop trigger fits on volume;
drop function volume_fits();
alter table volume drop constraint volume_has_room,
    drop column first, drop column mount_point, drop column host_id,
    add column thin boolean not null default false,
    add column purpose text not null default '',
    add column protection text,
    add constraint volume_has_room check (size > 0 and extents > 0);

create function piece_fits() returns trigger language plpgsql as $$
declare room bigint;
begin
    select capacity into room from pool where id = new.pool_id and scheme <> 'spread';
    if room is not null and new.first + new.count > room then
        raise exception 'a piece lies outside its pool' using errcode = 'check_violation';
    end if;
    if new.at + new.count > (select extents from volume where id = new.volume_id) then
        raise exception 'a piece lies outside its volume' using errcode = 'check_violation';
    end if;
    return new;
end $$;
create trigger fits before insert or update on volume_piece for each row execute function piece_fits();

alter table sample_file rename column sha256 to checksum;
update sample_file set checksum = 'sha256:' || checksum;
alter table sample_file add column via text not null default 'mount', add column folder text not null default '',
    add column writer text not null default '', add column deleted_at timestamptz;
alter table sample_file alter column via drop default, alter column folder drop default, alter column writer drop default;

create index sample_file_differing on sample_file (volume_id) where intact is false;
create index sample_file_in_bin on sample_file (deleted_at) where deleted_at is not null;

alter table host add column letters boolean not null default false, add column address text, add column iqn text,
    add column storage_address text, add column link bigint;
create unique index one_host_an_iqn on host (iqn);

create table party (
    id serial primary key,
    name text not null,
    kind text not null check (kind in ('person', 'group'))
);
create unique index one_party_of_a_name on party (lower(name));
create table party_member (
    group_id integer not null references party,
    person_id integer not null references party,
    primary key (group_id, person_id)
);

create table share (
    id serial primary key,
    volume_id integer not null references volume,
    name text not null,
    folder text not null default '',
    quota bigint check (quota > 0),
    bin_days integer check (bin_days between 1 and 3650),
    encrypted boolean not null default true,
    purpose text not null default ''
);
create unique index one_share_of_a_name on share (lower(name));
create index share_of on share (volume_id);
create table share_right (
    share_id integer not null references share on delete cascade,
    party_id integer not null references party,
    may text not null check (may in ('read', 'write')),
    primary key (share_id, party_id)
);
create table share_visit (
    id serial primary key,
    share_id integer not null references share on delete cascade,
    person_id integer not null references party,
    client text not null,
    since timestamptz not null,
    constraint one_visit_a_client unique (share_id, person_id, client)
);

create table initiator (
    id serial primary key,
    iqn text not null unique,
    host_id integer references host
);
create table target (
    id serial primary key,
    iqn text not null unique,
    host_id integer not null references host,
    shared boolean not null default false
);
create table target_lun (
    target_id integer not null references target on delete cascade,
    lun integer not null check (lun between 0 and 16383),
    volume_id integer not null references volume,
    primary key (target_id, lun),
    constraint one_target_a_volume unique (volume_id)
);
create table target_right (
    target_id integer not null references target on delete cascade,
    initiator_id integer not null references initiator,
    chap_name text,
    chap_hash text,
    primary key (target_id, initiator_id)
);

create table application (
    id serial primary key,
    host_id integer not null references host,
    name text not null,
    kind text not null,
    owner text not null,
    folder text not null,
    settings text not null,
    running boolean not null default true,
    volume_id integer references volume,
    folder_scheme text,
    files_per_folder integer,
    moved jsonb not null default '{}',
    constraint one_application_of_a_name unique (host_id, name)
);
create index application_on on application (volume_id);
create table keep_rule (
    volume_id integer primary key references volume,
    above double precision not null check (above > 0 and above < 1),
    application_id integer references application
);
create table partition_plan (
    drive_id integer primary key references drive,
    scheme text not null check (scheme in ('gpt', 'mbr')),
    sector integer not null,
    disk_id text not null,
    parts jsonb not null,
    written jsonb,
    changed_by text not null,
    changed_at timestamptz not null
);
"""


def upgrade() -> None:
    raw = op.get_bind().connection.driver_connection
    raw.execute(_TABLES)
    for table in _TOLD:
        raw.execute(
            f"create trigger told after insert or update or delete on {table} "
            "for each statement execute function tell_screens()"
        )


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
