"""Caches that were handed in, takes, deliveries that can be stopped"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("bake", sa.Column("handed_in", sa.Text(), server_default="", nullable=False))
    op.add_column("delivery", sa.Column("stop_asked", sa.Boolean(), server_default="false", nullable=False))
    op.create_table(
        "take",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("show_id", sa.Integer(), sa.ForeignKey("show.id"), nullable=False),
        sa.Column("shot_id", sa.Integer(), sa.ForeignKey("shot.id"), nullable=False),
        sa.Column("name", sa.String(120), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("fps", sa.Float(), nullable=False),
        sa.Column("tracks", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("favourite", sa.Boolean(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.UniqueConstraint("show_id", "name"),
    )


def downgrade() -> None:
    op.drop_table("take")
    op.drop_column("delivery", "stop_asked")
    op.drop_column("bake", "handed_in")
