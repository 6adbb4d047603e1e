"""A drive that is out of its bay leaves it free, and what has left the house stays in the books"""

from alembic import op

revision = "0007"
down_revision = "0006"

_CHANGES = """
alter table drive
    add column left_shelf_id integer references shelf on delete set null,
    add column left_bay integer,
    add column retired_to text,
    add column retired_at timestamptz,
    add column rated_writes bigint,
    add column max_temperature double precision,
    drop constraint known_service,
    add constraint known_service check (service in ('new', 'free', 'in-use', 'retired')),
    add constraint retired_where check ((service = 'retired') = (retired_to is not null)
                                        and (service = 'retired') = (retired_at is not null)),
    add constraint retired_on_no_shelf check (service <> 'retired' or shelf_id is null);
create index drive_on_no_shelf on drive (id) where shelf_id is null and service <> 'retired';

alter table change_sheet add column stale text;

update drive set left_shelf_id = shelf_id, left_bay = bay, shelf_id = null, bay = null where condition = 'missing';
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_CHANGES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
