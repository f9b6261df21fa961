"""Views of the page, by name."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the table."""
    op.create_table(
        "views",
        sa.Column("id", sa.Integer, primary_key=True, autoincrement=True),
        sa.Column("name", sa.Text, nullable=False, unique=True),
        sa.Column("query", sa.Text, nullable=False),
        sa.Column("saved", sa.String(40), nullable=False),
        sa.Column("saved_by", sa.Text, nullable=False),
    )


def downgrade() -> None:
    """Remove it."""
    op.drop_table("views")
