"""Pools grow: bands that were added, the front of a restripe, drives that are being made another's copy"""

from alembic import op

revision = "0009"
down_revision = "0008"

_CHANGES = """
alter table pool
    add column bands jsonb,
    add column walk jsonb,
    add column front bigint,
    add column turned boolean not null default false,
    add column moves bigint not null default 0,
    add constraint a_walk_has_a_front check ((walk is null) = (front is null) and (front is null or front >= 0)),
    add constraint only_a_walk_is_turned check (not turned or walk is not null);
alter table pool_place
    add column to_slot integer,
    add column beside integer,
    drop constraint one_place_a_slot,
    add constraint one_place_a_slot unique (pool_id, slot) deferrable initially deferred,
    add constraint one_place_a_new_slot unique (pool_id, to_slot) deferrable initially deferred,
    add constraint one_copy_a_slot unique (pool_id, beside),
    add constraint a_copy_is_no_member check (beside is null or slot is null),
    drop constraint known_place_state,
    add constraint known_place_state
        check (state in ('active','missing','failed','rebuilding','emptied','copying'));
"""


def upgrade() -> None:
    op.get_bind().connection.driver_connection.execute(_CHANGES)


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
