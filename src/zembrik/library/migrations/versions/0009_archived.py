"""Shows and shots that are put away; findings are computed anew, as there are new checks"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    for table in ("show", "shot"):
        op.add_column(table, sa.Column("archived", sa.DateTime(timezone=True), nullable=True))
    op.execute("UPDATE revision SET findings = NULL")


def downgrade() -> None:
    for table in ("show", "shot"):
        op.drop_column(table, "archived")
