"""Accounts, tokens, who did what, what was removed, and what tells one installation from another"""

import secrets
import uuid

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"

BY = {
    "revision": ["author"],
    "bake": ["author"],
    "delivery": ["author"],
    "errand": ["author"],
    "cache": ["approved_by", "trashed_by"],
}


def upgrade() -> None:
    op.create_table(
        "account",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String(40), nullable=False, unique=True),
        sa.Column("password", sa.Text, nullable=False),
        sa.Column("stamp", sa.Integer, nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("ended", sa.DateTime(timezone=True)),
    )
    op.create_table(
        "api_token",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("account_id", sa.Integer, sa.ForeignKey("account.id"), nullable=False),
        sa.Column("name", sa.String(80), nullable=False),
        sa.Column("sha256", sa.String(64), nullable=False, unique=True),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("used", sa.DateTime(timezone=True)),
        sa.Column("ended", sa.DateTime(timezone=True)),
    )
    op.create_table(
        "removal",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("what", sa.Text, nullable=False),
        sa.Column("author", sa.String(40), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
    )
    installation = op.create_table(
        "installation",
        sa.Column("name", sa.String(40), primary_key=True),
        sa.Column("value", sa.Text, nullable=False),
    )
    op.bulk_insert(
        installation,
        [{"name": "identity", "value": str(uuid.uuid4())}, {"name": "secret", "value": secrets.token_urlsafe(48)}],
    )
    for table, columns in BY.items():
        for column in columns:
            op.add_column(table, sa.Column(column, sa.String(40), server_default="", nullable=False))


def downgrade() -> None:
    for table, columns in BY.items():
        for column in columns:
            op.drop_column(table, column)
    for table in ("installation", "removal", "api_token", "account"):
        op.drop_table(table)
