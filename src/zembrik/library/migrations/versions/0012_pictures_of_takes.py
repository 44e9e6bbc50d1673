"""A small picture of a take that was guided by hand"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("take", sa.Column("picture", sa.Text(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("take", "picture")
