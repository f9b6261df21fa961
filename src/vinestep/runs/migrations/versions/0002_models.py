"""The catalogue of models."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the table."""
    op.create_table(
        "models",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("version", sa.Integer, nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("kept", sa.String(40), nullable=False),
        sa.Column("kept_by", sa.Text, nullable=False),
        sa.Column("run_uid", sa.String(64), nullable=False),
        sa.Column("about", sa.JSON, nullable=False),
        sa.Column("note", sa.Text, nullable=False),
        sa.Column("in_use", sa.Boolean, nullable=False),
        sa.Column("used_since", sa.String(40), nullable=False),
        sa.Column("used_by", sa.Text, nullable=False),
        sa.UniqueConstraint("name", "version"),
    )


def downgrade() -> None:
    """Remove it."""
    op.drop_table("models")
