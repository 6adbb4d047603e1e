"""A drive divided into partitions is in use, and its partitions are volumes"""

from alembic import op

revision = "0008"
down_revision = "0007"

# What was written before was a wish on a drive that stayed free; it is pending again until it is written for use.
_CHANGES = """
alter table volume
    add column partition integer,
    drop constraint volume_has_room,
    add constraint volume_has_room check (size > 0 and (extents > 0 or (extents = 0 and partition is not null))),
    add constraint one_volume_a_partition unique (pool_id, partition);
update partition_plan set written = null;
alter table partition_plan add column pool_id integer unique references pool;
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_CHANGES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
