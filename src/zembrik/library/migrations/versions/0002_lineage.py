"""Where an asset came from"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.add_column("asset", sa.Column("parent", sa.String(length=64), nullable=True))
    op.add_column("asset", sa.Column("made_by", sa.Text(), server_default="", nullable=False))


def downgrade() -> None:
    op.drop_column("asset", "made_by")
    op.drop_column("asset", "parent")
