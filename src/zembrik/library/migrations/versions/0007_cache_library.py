"""Caches that are approved, in the trash, looked over"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.add_column("cache", sa.Column("approved", sa.DateTime(timezone=True), nullable=True))
    op.add_column("cache", sa.Column("trashed", sa.DateTime(timezone=True), nullable=True))
    op.add_column("cache", sa.Column("was", sa.String(20), nullable=True))
    op.add_column("cache", sa.Column("verified", sa.DateTime(timezone=True), nullable=True))
    op.add_column("cache", sa.Column("damage", postgresql.JSONB(astext_type=sa.Text()), nullable=True))


def downgrade() -> None:
    for name in ("approved", "trashed", "was", "verified", "damage"):
        op.drop_column("cache", name)
