"""The ledger: a database of runs, in a file of the runs' folder or on a PostgreSQL server."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import sqlalchemy as sa
from sqlalchemy.exc import DBAPIError, SQLAlchemyError
from sqlalchemy.pool import StaticPool

from ..errors import RunError, UnwritableLedgerError
from ._schema import (
    HEAD,
    contents,
    files,
    models,
    states,
)

if TYPE_CHECKING:
    from sqlalchemy.engine import Connection, Engine

    from .._findings import Finding

__all__ = ["FILE", "Ledger", "ledger_url", "own_ledger"]

FILE = "ledger.sqlite"
VARIABLE = "VINESTEP_LEDGER"
PART = 4 << 20  # bytes of a content in one row
PATIENCE = 30.0  # seconds to wait for others who write


UNWRITABLE = ("SQLITE_FULL", "SQLITE_READONLY", "SQLITE_IOERR", "SQLITE_CANTOPEN")
LITTLE_ROOM = 1 << 20  # bytes


def ledger_url(place: str | os.PathLike[str], given: str | None = None) -> str:
    """The address of the ledger of a runs' folder: what is given, what ``VINESTEP_LEDGER`` says, or
    a file in the folder.

    Examples
    --------
    >>> ledger_url("records", "postgresql://cellar/runs")
    'postgresql+psycopg://cellar/runs'
    """
    url = given or os.environ.get(VARIABLE) or ""
    if not url:
        return own_ledger(place)
    return re.sub(r"^postgres(ql)?://", "postgresql+psycopg://", url)


def own_ledger(place: str | os.PathLike[str]) -> str:
    """The address of the ledger within a runs' folder."""
    return f"sqlite:///{Path(place).resolve() / FILE}"


class Ledger:
    """A ledger that is open; its tables are brought to the newest form.

    Attributes
    ----------
    address : str
    unwritable : str
        Why nothing that is written here lasts; empty if it does.

    Parameters
    ----------
    url : str
        Such as ``sqlite:///records/ledger.sqlite``, ``sqlite://`` for one in memory, ``postgresql://user@host/name``.

    Raises
    ------
    RunError
        If it cannot be reached, or was made by a newer version.

    Examples
    --------
    >>> ledger = Ledger("sqlite://")
    >>> ledger
    <Ledger sqlite://>
    """

    def __init__(self, url: str) -> None:
        self.address, self.unwritable = url, ""
        self.engine = _engine(url)
        self.reported: set[Finding] = set()
        """Findings on runs that could not be taken in, each of which is told once."""
        self._reader = self.engine.execution_options(writes=False)
        with self._told():
            self._bring_up()

    @classmethod
    def copy_in_memory(cls, url: str, reason: str) -> Ledger:
        """A copy of a ledger whose file cannot be written.

        Parameters
        ----------
        url : str
        reason : str
            Why it cannot; `check_writable` gives it.
        """
        result = cls("sqlite://")
        result.address, result.unwritable = url, reason
        path = Path(sa.make_url(url).database or "")
        if path.is_file():
            with result._told(), result.engine.connect() as connection:
                _copy_file(path, connection.connection.driver_connection)
            with result._told():
                result._bring_up()
        return result

    def check_writable(self) -> None:
        """
        Raises
        ------
        UnwritableLedgerError
            If what is written here does not last.
        """
        if self.unwritable:
            raise UnwritableLedgerError(
                f"{self.unwritable} So nothing can be changed there. Where the folder may only be "
                "read, keep a ledger elsewhere: --ledger, or VINESTEP_LEDGER."
            )

    def __repr__(self) -> str:
        return f"<Ledger {self.name}>"

    @property
    def name(self) -> str:
        """Its address without a password, wherever in it that stands."""
        url = self.engine.url
        hidden = {
            key: "***" for key in url.query if "pass" in key.lower() or "secret" in key.lower()
        }
        return url.update_query_dict(hidden).render_as_string(hide_password=True)

    @contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except DBAPIError as error:
            code = getattr(error.orig, "sqlite_errorname", "")
            if code.startswith(UNWRITABLE):
                raise UnwritableLedgerError(_unwritable(self.name, self.engine, error)) from error
            raise RunError(
                f"{self.name}: the ledger cannot be used: {_first_line(error.orig)}."
            ) from error
        except SQLAlchemyError as error:
            raise RunError(
                f"{self.name}: the ledger cannot be used: {_first_line(error)}."
            ) from error

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """A transaction, which is done whole or not at all.

        Raises
        ------
        RunError
            If the ledger cannot be reached, or is busy for too long.
        """
        with self._told(), self.engine.begin() as connection:
            yield connection

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection to read with."""
        with self._told(), self._reader.connect() as connection:
            yield connection

    def close(self) -> None:
        """Let connections go."""
        self.engine.dispose()

    # form

    def _bring_up(self) -> None:
        if self._version() == HEAD:
            return
        with self._alone():
            version = self._version()
            if version == HEAD:
                return
            if version and version > HEAD:
                raise RunError(
                    f"{self.name}: the ledger has form {version}, this version knows {HEAD}. "
                    "Update vinestep."
                )
            self._migrate()

    def _version(self) -> str:
        with self._reader.connect() as connection:
            if not sa.inspect(connection).has_table("alembic_version"):
                return ""
            return str(
                connection.execute(sa.text("select version_num from alembic_version")).scalar()
                or ""
            )

    def _migrate(self, to: str = HEAD) -> None:
        from alembic import command
        from alembic.config import Config

        settings = Config()
        settings.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
        settings.set_main_option("path_separator", "os")
        with self.engine.begin() as connection:
            settings.attributes["connection"] = connection
            command.upgrade(settings, to)

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """One process at a time changes the form."""
        if self.engine.dialect.name == "postgresql":
            with self.engine.connect() as connection:
                connection.execute(sa.text("select pg_advisory_lock(7421963)"))
                try:
                    yield
                finally:
                    connection.execute(sa.text("select pg_advisory_unlock(7421963)"))
            return
        from filelock import FileLock

        file = self.engine.url.database
        with (
            FileLock(f"{file}.lock", timeout=PATIENCE)
            if file and file != ":memory:"
            else nullcontext()
        ):
            yield

    # contents

    def put(self, connection: Connection, content: bytes) -> str:
        """Keep a content under its SHA-256, once however often it is put."""
        digest = hashlib.sha256(content).hexdigest()
        there = connection.execute(
            sa.select(contents.c.id).where(contents.c.digest == digest).limit(1)
        ).first()
        if there is None:
            rows = [
                {"digest": digest, "part": i, "content": content[at : at + PART]}
                for i, at in enumerate(range(0, len(content) or 1, PART))
            ]
            connection.execute(self.ignoring_doubles(contents), rows)
        return digest

    def ignoring_doubles(self, table: sa.Table) -> Any:
        """An insert that leaves alone what is there."""
        from sqlalchemy.dialects import postgresql, sqlite

        maker = postgresql if self.engine.dialect.name == "postgresql" else sqlite
        return maker.insert(table).on_conflict_do_nothing()

    def content(self, connection: Connection, digest: str) -> bytes:
        """A content by its SHA-256, which is checked.

        Raises
        ------
        RunError
            If it is not there, or was changed.
        """
        query = (
            sa.select(contents.c.content)
            .where(contents.c.digest == digest)
            .order_by(contents.c.part)
        )
        result = b"".join(connection.execute(query).scalars())
        if hashlib.sha256(result).hexdigest() != digest:
            raise RunError(
                f"{self.name}: a content is {'changed' if result else 'missing'}: its check sum is "
                f"not {digest[:12]}...."
            )
        return result

    def release(self, connection: Connection, digest: str | None) -> None:
        """Remove a content, if nothing refers to it any more."""
        if digest is None:
            return
        used = [sa.exists().where(table.c.digest == digest) for table in (files, states, models)]
        connection.execute(contents.delete().where(contents.c.digest == digest, ~sa.or_(*used)))

    def sweep(self, connection: Connection) -> None:
        """Remove contents that nothing refers to any more."""
        used = sa.union(
            sa.select(files.c.digest), sa.select(states.c.digest), sa.select(models.c.digest)
        )
        connection.execute(contents.delete().where(contents.c.digest.not_in(used)))


def _engine(url: str) -> Engine:
    try:
        parsed = sa.make_url(url)
    except SQLAlchemyError:
        raise RunError(
            "The ledger's address is no URL such as sqlite:///records/ledger.sqlite or postgresql://host/name."
        ) from None
    if parsed.drivername not in ("sqlite", "sqlite+pysqlite", "postgresql+psycopg"):
        raise RunError(f"A ledger is kept by SQLite or PostgreSQL, not by {parsed.drivername!r}.")
    if parsed.drivername == "postgresql+psycopg":
        try:
            return sa.create_engine(parsed, pool_pre_ping=True, connect_args={"connect_timeout": 5})
        except ImportError:
            raise RunError(
                "A ledger on PostgreSQL needs its driver: pip install 'vinestep[postgres]'."
            ) from None
    if not parsed.database or parsed.database == ":memory:":
        engine = sa.create_engine(
            parsed, poolclass=StaticPool, connect_args={"check_same_thread": False}
        )
    else:
        engine = sa.create_engine(
            parsed, connect_args={"timeout": PATIENCE, "check_same_thread": False}
        )
    return _for_sqlite(engine)


def _for_sqlite(engine: Engine) -> Engine:
    """Readers go on while one writes; a transaction has its lock from its first statement on."""

    @sa.event.listens_for(engine, "connect")
    def connected(connection: Any, record: Any) -> None:
        connection.isolation_level = None
        connection.execute("pragma journal_mode = wal")
        connection.execute("pragma synchronous = normal")
        connection.execute("pragma foreign_keys = on")

    @sa.event.listens_for(engine, "begin")
    def begun(connection: Connection) -> None:
        connection.exec_driver_sql(
            "begin immediate" if connection.get_execution_options().get("writes", True) else "begin"
        )

    return engine


def _copy_file(path: Path, target: Any) -> None:
    """A SQLite file into a connection, also where nothing can be written beside it."""
    import sqlite3

    for how in ("mode=ro", "immutable=1"):
        source = sqlite3.connect(f"file:{quote(str(path))}?{how}", uri=True)
        try:
            source.backup(target)
            return
        except sqlite3.OperationalError:
            if how == "immutable=1":
                raise
        finally:
            source.close()


def _unwritable(name: str, engine: Engine, error: DBAPIError) -> str:
    place = Path(engine.url.database or ".").parent
    with suppress(OSError):
        if (left := shutil.disk_usage(place).free) < LITTLE_ROOM:
            return (
                f"{name}: the ledger cannot be written: the disk of {place} is full, {left:,} "
                "bytes are left. Make room there: vinestep remove RUN, or take other files away."
            )
    return f"{name}: the ledger cannot be written: {_first_line(error.orig)}."


def _first_line(error: Any) -> str:
    return (
        str(error).strip().splitlines()[0].rstrip(".")
        if str(error).strip()
        else type(error).__name__
    )
