"""Views of the page, kept by name beside the runs."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

from ..errors import RunError
from ..storage.lineage import now, user
from . import _schema as t

if TYPE_CHECKING:
    from ._ledger import Ledger

__all__ = ["remove_view", "save_view", "saved_views"]

LONGEST_NAME, LONGEST_QUERY, MOST = 100, 4000, 200


def saved_views(ledger: Ledger) -> dict[str, str]:
    """The query part of the address of each view, by the view's name.

    Examples
    --------
    >>> ledger = vs.runs.Ledger("sqlite://")
    >>> save_view(ledger, "oak", "where=tag%3Doak")
    >>> saved_views(ledger)
    {'oak': 'where=tag%3Doak'}
    """
    with ledger.reading() as connection:
        query = sa.select(t.views.c.name, t.views.c.query).order_by(t.views.c.name)
        return {row.name: row.query for row in connection.execute(query)}


def save_view(ledger: Ledger, name: str, query: str) -> None:
    """Keep a view; one of the same name is replaced.

    Raises
    ------
    RunError
        If the name is empty, something is too long, or there are too many.
    """
    name = name.strip()
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise RunError(f"A view's name has 1 to {LONGEST_NAME} printable characters; got {name!r}.")
    if len(query) > LONGEST_QUERY:
        raise RunError(f"A view has at most {LONGEST_QUERY} characters; this one {len(query)}.")
    known = saved_views(ledger)
    if name not in known and len(known) >= MOST:
        raise RunError(f"There are {MOST} views already. Remove one first.")
    ledger.check_writable()
    values = {"name": name, "query": query, "saved": now(), "saved_by": user()}
    with ledger.writing() as connection:
        connection.execute(t.views.delete().where(t.views.c.name == name))
        connection.execute(t.views.insert().values(**values))


def remove_view(ledger: Ledger, name: str) -> None:
    """Remove a view.

    Raises
    ------
    RunError
        If there is none of that name.
    """
    ledger.check_writable()
    with ledger.writing() as connection:
        done = connection.execute(t.views.delete().where(t.views.c.name == name))
    if not done.rowcount:
        raise RunError(f"There is no view {name!r}.")
