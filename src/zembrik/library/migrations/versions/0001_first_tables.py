"""First tables"""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "asset",
        sa.Column("sha256", sa.String(length=64), nullable=False),
        sa.Column("name", sa.String(length=300), nullable=False),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.Column("points", sa.Integer(), nullable=False),
        sa.Column("faces", sa.Integer(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("sha256"),
    )
    op.create_table(
        "show",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("title", sa.String(length=300), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("title"),
    )
    op.create_table(
        "shot",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("show_id", sa.Integer(), nullable=False),
        sa.Column("code", sa.String(length=40), nullable=False),
        sa.Column("title", sa.String(length=300), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("head_id", sa.Integer(), nullable=True),
        sa.Column("redo", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(
            ["show_id"],
            ["show.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("show_id", "code"),
    )
    op.create_table(
        "revision",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("shot_id", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("parent_id", sa.Integer(), nullable=True),
        sa.Column("document", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("setup_hash", sa.String(length=64), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("findings", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["parent_id"],
            ["revision.id"],
        ),
        sa.ForeignKeyConstraint(
            ["shot_id"],
            ["shot.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("shot_id", "number"),
    )
    op.create_index(op.f("ix_revision_setup_hash"), "revision", ["setup_hash"], unique=False)
    op.create_table(
        "bake",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("shot_id", sa.Integer(), nullable=False),
        sa.Column("revision_id", sa.Integer(), nullable=False),
        sa.Column("setup_hash", sa.String(length=64), nullable=False),
        sa.Column("first", sa.Integer(), nullable=False),
        sa.Column("last", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("stop_asked", sa.Boolean(), nullable=False),
        sa.Column("error", sa.Text(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("started", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["revision_id"],
            ["revision.id"],
        ),
        sa.ForeignKeyConstraint(
            ["shot_id"],
            ["shot.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("bake_of_shot", "bake", ["shot_id", "id"], unique=False)
    op.create_table(
        "cache",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("bake_id", sa.Integer(), nullable=False),
        sa.Column("folder", sa.String(length=300), nullable=False),
        sa.Column("done", sa.Integer(), nullable=True),
        sa.Column("size_bytes", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["bake_id"],
            ["bake.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("bake_id"),
    )
    op.create_table(
        "delivery",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("bake_id", sa.Integer(), nullable=False),
        sa.Column("order", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("file", sa.String(length=400), nullable=False),
        sa.Column("state", sa.String(length=20), nullable=False),
        sa.Column("frames_done", sa.Integer(), nullable=False),
        sa.Column("frames_all", sa.Integer(), nullable=False),
        sa.Column("manifest", postgresql.JSONB(astext_type=sa.Text()), nullable=True),
        sa.Column("error", sa.Text(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["bake_id"],
            ["bake.id"],
        ),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(op.f("ix_delivery_bake_id"), "delivery", ["bake_id"], unique=False)
    op.create_foreign_key("shot_head", "shot", "revision", ["head_id"], ["id"])
    # The queue's own tables, as its library makes them.
    raw = op.get_bind().connection.driver_connection
    raw.execute(  # type: ignore[union-attr]
        SchemaManager.get_schema()
    )


def downgrade() -> None:
    raise RuntimeError("there is nothing before the first tables")
