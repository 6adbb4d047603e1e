"""Links of shelves, the price list, saved comparisons, recorded backups"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"

_TOLD = ("drive_model", "comparison", "backup")


def upgrade() -> None:
    op.add_column("shelf", sa.Column("link", sa.BigInteger(), nullable=True))
    op.create_check_constraint("link_positive", "shelf", "link is null or link > 0")
    op.add_column("pool_place", sa.Column("shelf", sa.Text(), nullable=True))
    op.add_column("pool_place", sa.Column("link", sa.BigInteger(), nullable=True))
    op.create_table(
        "drive_model",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("maker", sa.Text(), nullable=True),
        sa.Column("model", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("bus", sa.Text(), nullable=True),
        sa.Column("price", sa.Numeric(12, 2), nullable=True),
        sa.Column("currency", sa.Text(), nullable=True),
        sa.Column("rate", sa.BigInteger(), nullable=True),
        sa.Column("afr", sa.Float(), nullable=True),
        sa.Column("uber", sa.Float(), nullable=True),
        sa.Column("ops", sa.Integer(), nullable=True),
        sa.Column("watts", sa.Float(), nullable=True),
        sa.Column("error_recovery", sa.Float(), nullable=True),
        sa.CheckConstraint("size > 0", name="model_size_positive"),
        sa.CheckConstraint("kind in ('hdd', 'ssd', 'nvme')", name="known_model_kind"),
    )
    op.create_index("one_model_of_a_name", "drive_model", [sa.text("lower(model)")], unique=True)
    op.create_table(
        "comparison",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("question", sa.Text(), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("layouts", postgresql.JSONB(), nullable=False),
        sa.Column("created_by", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, index=True),
    )
    op.create_index("one_comparison_of_a_name", "comparison", [sa.text("lower(name)")], unique=True)
    op.create_table(
        "backup",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("pool_id", sa.Integer(), sa.ForeignKey("pool.id"), nullable=False, index=True),
        sa.Column("volume_id", sa.Integer(), sa.ForeignKey("volume.id"), nullable=True),
        sa.Column("place", sa.Text(), nullable=False),
        sa.Column("age_hours", sa.Float(), nullable=False),
        sa.Column("link", sa.BigInteger(), nullable=False),
        sa.Column("recorded_by", sa.Text(), nullable=False),
        sa.Column("recorded_at", sa.DateTime(timezone=True), nullable=False),
        sa.CheckConstraint("age_hours >= 0 and link > 0", name="backup_makes_sense"),
    )
    op.create_index(
        "one_backup_a_pool_or_volume", "backup", ["pool_id", sa.text("coalesce(volume_id, -1)")], unique=True
    )
    for table in _TOLD:
        op.execute(
            f"create trigger told after insert or update or delete on {table} "
            "for each statement execute function tell_screens()"
        )


def downgrade() -> None:
    raise NotImplementedError("Go back by restoring a backup.")
