"""Runs, their settings, scores, series and files."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def _run() -> sa.Column[int]:
    return sa.Column(
        "run", sa.Integer, sa.ForeignKey("runs.id", ondelete="CASCADE"), nullable=False
    )


def _key() -> sa.Column[int]:
    return sa.Column("id", sa.Integer, primary_key=True, autoincrement=True)


def upgrade() -> None:
    """Make the tables."""
    text, number = sa.Text, sa.Float(53)
    op.create_table(
        "runs",
        _key(),
        sa.Column("uid", sa.String(64), nullable=False, unique=True),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("name", text, nullable=False),
        sa.Column("label", text, nullable=False),
        sa.Column("folder", text, nullable=False),
        sa.Column("status", sa.String(32), nullable=False),
        sa.Column("reason", text, nullable=False),
        sa.Column("epoch", sa.Integer, nullable=False),
        sa.Column("epochs", sa.Integer, nullable=False),
        sa.Column("step", sa.BigInteger, nullable=False),
        sa.Column("begun", sa.String(40), nullable=False),
        sa.Column("changed", sa.String(40), nullable=False),
        sa.Column("known", sa.JSON, nullable=False),
        sa.Column("about", sa.JSON, nullable=False),
        sa.Column("plan", sa.JSON, nullable=False),
    )
    op.create_table(
        "settings",
        _key(),
        _run(),
        sa.Column("name", text, nullable=False),
        sa.Column("value", text),
        sa.Column("number", number),
    )
    op.create_table(
        "scores",
        _key(),
        _run(),
        sa.Column("name", text, nullable=False),
        sa.Column("last", number),
        sa.Column("best", number),
        sa.Column("best_epoch", number),
        sa.Column("better", sa.String(8), nullable=False),
    )
    op.create_table(
        "tags",
        _key(),
        _run(),
        sa.Column("tag", text, nullable=False),
        sa.UniqueConstraint("run", "tag"),
    )
    op.create_table(
        "notes",
        _key(),
        _run(),
        sa.Column("at", sa.String(40), nullable=False),
        sa.Column("text", text, nullable=False),
    )
    op.create_table(
        "chunks",
        _key(),
        _run(),
        sa.Column("series", text, nullable=False),
        sa.Column("columns", sa.JSON, nullable=False),
        sa.Column("rows", sa.Integer, nullable=False),
        sa.Column("content", sa.LargeBinary, nullable=False),
    )
    op.create_table("console", _key(), _run(), sa.Column("text", text, nullable=False))
    op.create_table(
        "contents",
        _key(),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("part", sa.Integer, nullable=False),
        sa.Column("content", sa.LargeBinary, nullable=False),
        sa.UniqueConstraint("digest", "part"),
    )
    op.create_table(
        "files",
        _key(),
        _run(),
        sa.Column("name", text, nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.UniqueConstraint("run", "name"),
    )
    op.create_table(
        "states",
        _key(),
        _run(),
        sa.Column("name", text, nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.UniqueConstraint("run", "name"),
    )
    op.create_table(
        "requests",
        _key(),
        _run(),
        sa.Column("what", sa.String(16), nullable=False),
        sa.Column("text", text, nullable=False),
    )
    op.create_table(
        "taken",
        _key(),
        _run(),
        sa.Column("file", text, nullable=False),
        sa.Column("mark", sa.JSON, nullable=False),
        sa.UniqueConstraint("run", "file"),
    )
    for table, *columns in (
        ("settings", "run", "name"),
        ("scores", "run", "name"),
        ("notes", "run"),
        ("chunks", "run", "series"),
        ("console", "run"),
        ("requests", "run"),
    ):
        op.create_index(f"ix_{table}_{'_'.join(columns)}", table, columns)


def downgrade() -> None:
    """Remove them."""
    for table in (
        "taken",
        "requests",
        "states",
        "files",
        "contents",
        "console",
        "chunks",
        "notes",
        "tags",
        "scores",
        "settings",
        "runs",
    ):
        op.drop_table(table)
