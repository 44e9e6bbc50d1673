"""Trial sheets"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.create_table(
        "trial_sheet",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("shot_id", sa.Integer(), nullable=False),
        sa.Column("revision_id", sa.Integer(), nullable=False),
        sa.Column("title", sa.String(length=300), nullable=False),
        sa.Column("kind", sa.String(length=20), nullable=False),
        sa.Column("plan", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("chosen_id", sa.Integer(), nullable=True),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["shot_id"], ["shot.id"]),
        sa.ForeignKeyConstraint(["revision_id"], ["revision.id"]),
        sa.PrimaryKeyConstraint("id"),
    )
    op.add_column("bake", sa.Column("sheet_id", sa.Integer(), nullable=True))
    op.create_foreign_key("bake_of_sheet", "bake", "trial_sheet", ["sheet_id"], ["id"])
    op.create_index("ix_bake_sheet_id", "bake", ["sheet_id"])
    op.add_column("bake", sa.Column("patch", postgresql.JSONB(astext_type=sa.Text()), nullable=True))
    op.add_column("bake", sa.Column("label", sa.Text(), server_default="", nullable=False))
    op.add_column("bake", sa.Column("marked", sa.Boolean(), server_default=sa.false(), nullable=False))
    op.add_column("bake", sa.Column("adopted", sa.Boolean(), server_default=sa.false(), nullable=False))


def downgrade() -> None:
    for name in ("adopted", "marked", "label", "patch", "sheet_id"):
        op.drop_column("bake", name)
    op.drop_table("trial_sheet")
