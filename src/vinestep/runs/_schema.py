"""The tables of a ledger, the same for SQLite and PostgreSQL."""

from __future__ import annotations

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

__all__ = ["HEAD", "metadata"]

HEAD = "0004"
"""The newest migration, which `metadata` is the result of."""

metadata = MetaData(
    naming_convention={
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "pk": "pk_%(table_name)s",
    }
)


def _key() -> Column[int]:
    return Column("id", Integer, primary_key=True, autoincrement=True)


def _run() -> Column[int]:
    return Column("run", ForeignKey("runs.id", ondelete="CASCADE"), nullable=False)


runs = Table(
    "runs",
    metadata,
    _key(),
    Column("uid", String(64), nullable=False, unique=True),
    Column("number", Integer, nullable=False),
    Column("name", Text, nullable=False),
    Column("label", Text, nullable=False),
    Column("folder", Text, nullable=False, default=""),
    Column("status", String(32), nullable=False, default="ready"),
    Column("reason", Text, nullable=False, default=""),
    Column("epoch", Integer, nullable=False, default=0),
    Column("epochs", Integer, nullable=False, default=0),
    Column("step", BigInteger, nullable=False, default=0),
    Column("begun", String(40), nullable=False, default=""),
    Column("changed", String(40), nullable=False, default=""),
    Column("known", JSON, nullable=False),
    Column("about", JSON, nullable=False),
    Column("plan", JSON, nullable=False),
)
settings = Table(
    "settings",
    metadata,
    _key(),
    _run(),
    Column("name", Text, nullable=False),
    Column("value", Text),
    Column("number", Float(53)),
)
Index(None, settings.c.run, settings.c.name)
scores = Table(
    "scores",
    metadata,
    _key(),
    _run(),
    Column("name", Text, nullable=False),
    Column("last", Float(53)),
    Column("best", Float(53)),
    Column("best_epoch", Float(53)),
    Column("better", String(8), nullable=False, default=""),
    Column("best_step", Float(53)),
)
Index(None, scores.c.run, scores.c.name)
tags = Table(
    "tags",
    metadata,
    _key(),
    _run(),
    Column("tag", Text, nullable=False),
    UniqueConstraint("run", "tag"),
)
notes = Table(
    "notes",
    metadata,
    _key(),
    _run(),
    Column("at", String(40), nullable=False),
    Column("text", Text, nullable=False),
)
Index(None, notes.c.run)
chunks = Table(
    "chunks",
    metadata,
    _key(),
    _run(),
    Column("series", Text, nullable=False),
    Column("columns", JSON, nullable=False),
    Column("rows", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
)
Index(None, chunks.c.run, chunks.c.series)
console = Table("console", metadata, _key(), _run(), Column("text", Text, nullable=False))
Index(None, console.c.run)
contents = Table(
    "contents",
    metadata,
    _key(),
    Column("digest", String(64), nullable=False),
    Column("part", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
    UniqueConstraint("digest", "part"),
)
files = Table(
    "files",
    metadata,
    _key(),
    _run(),
    Column("name", Text, nullable=False),
    Column("digest", String(64), nullable=False),
    Column("size", BigInteger, nullable=False),
    UniqueConstraint("run", "name"),
)
states = Table(
    "states",
    metadata,
    _key(),
    _run(),
    Column("name", Text, nullable=False),
    Column("digest", String(64), nullable=False),
    UniqueConstraint("run", "name"),
)
requests = Table(
    "requests",
    metadata,
    _key(),
    _run(),
    Column("what", String(16), nullable=False),
    Column("text", Text, nullable=False),
)
Index(None, requests.c.run)
taken = Table(
    "taken",
    metadata,
    _key(),
    _run(),
    Column("file", Text, nullable=False),
    Column("mark", JSON, nullable=False),
    UniqueConstraint("run", "file"),
)
models = Table(
    "models",
    metadata,
    _key(),
    Column("name", Text, nullable=False),
    Column("version", Integer, nullable=False),
    Column("digest", String(64), nullable=False),
    Column("size", BigInteger, nullable=False),
    Column("kept", String(40), nullable=False),
    Column("kept_by", Text, nullable=False),
    Column("run_uid", String(64), nullable=False, default=""),
    Column("about", JSON, nullable=False),
    Column("note", Text, nullable=False, default=""),
    Column("in_use", Boolean, nullable=False, default=False),
    Column("used_since", String(40), nullable=False, default=""),
    Column("used_by", Text, nullable=False, default=""),
    UniqueConstraint("name", "version"),
)
views = Table(
    "views",
    metadata,
    _key(),
    Column("name", Text, nullable=False, unique=True),
    Column("query", Text, nullable=False),
    Column("saved", String(40), nullable=False),
    Column("saved_by", Text, nullable=False),
)
