"""The step of the best value of a figure, for runs without epochs."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Make the column."""
    op.add_column("scores", sa.Column("best_step", sa.Float(53)))


def downgrade() -> None:
    """Remove it."""
    op.drop_column("scores", "best_step")
