"""Proxies kept by name"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.create_table(
        "kept_proxy",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("mesh_key", sa.String(length=64), nullable=False),
        sa.Column("name", sa.String(length=120), nullable=False),
        sa.Column("proxy", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("shot_id", sa.Integer(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["shot_id"], ["shot.id"]),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("mesh_key", "name"),
    )


def downgrade() -> None:
    op.drop_table("kept_proxy")
