"""There are more findings now: those kept of older setups are looked for anew."""

from __future__ import annotations

from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    """Forget what was found."""
    op.execute("UPDATE revision SET findings = NULL")


def downgrade() -> None:
    """Nothing to take back: what was found is found again."""
