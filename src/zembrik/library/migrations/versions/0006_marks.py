"""Marked frames; and there are more findings now, so those kept of older setups are looked for anew."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    op.add_column("shot", sa.Column("marks", postgresql.JSONB(astext_type=sa.Text()), nullable=True))
    op.execute("UPDATE revision SET findings = NULL")


def downgrade() -> None:
    op.drop_column("shot", "marks")
