"""The catalogue: the best models of a team under names with rising versions."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from ._public_names import did_you_mean, own_names
from .errors import RunError
from .runs import _schema as t
from .runs._query import RunRecord, Runs, open_runs
from .storage.lineage import now, user
from .storage.run_folder import RECORDS

if TYPE_CHECKING:
    import pandas as pd

    from ._model import Model

__all__ = ["Entry", "keep", "load", "mark_in_use", "models"]


@dataclass(frozen=True)
class Entry:
    """A version of a model in the catalogue.

    Examples
    --------
    >>> Entry("barrels", 3, "ab" * 32, 2048, "2026-11-26T10:00:00+00:00", "ines").label
    'barrels 3'
    """

    name: str
    version: int
    digest: str
    """SHA-256 of its file."""
    size: int
    kept: str
    kept_by: str
    about: dict[str, Any] = field(default_factory=dict)
    """Run, state, settings, scores, fingerprint of the data, commit, parent."""
    note: str = ""
    in_use: bool = False
    used_since: str = ""
    used_by: str = ""

    @property
    def label(self) -> str:
        return f"{self.name} {self.version}"


def keep(
    run: RunRecord, name: str, *, state: str | None = None, note: str = "", own: Iterable[Any] = ()
) -> Entry:
    """Put a model of a run into the catalogue, under the next version of a name. It outlives its
    run.

    Parameters
    ----------
    run : RunRecord
    name : str
        Such as ``"barrels"``.
    state : str, optional
        Name of a state; by default the best one, or the newest if none is marked.
    note : str
    own : sequence of classes and functions
        Parts of one's own that the network has.

    Raises
    ------
    RunError
        If the run has no such state here, or the name is no name.
    ArchiveError
        If the state is damaged.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> kept = vs.catalogue.keep(vs.runs.open(root)["run-1"], "barrels")
    >>> kept.label, kept.about["run"]
    ('barrels 1', 'run-1')
    """
    if not name or not name.replace("-", "").replace("_", "").replace(".", "").isalnum():
        raise RunError(
            f"{name!r} cannot be the name of a model. Use letters, digits, and - _ . between them."
        )
    ledger = run._runs.ledger
    ledger.check_writable()
    content, about = _model_of(run, state, own)
    with ledger.writing() as connection:
        digest = ledger.put(connection, content)
        if ledger.engine.dialect.name == "postgresql":
            connection.execute(sa.text("lock table models in exclusive mode"))
        version = 1 + (
            connection.execute(
                sa.select(sa.func.max(t.models.c.version)).where(t.models.c.name == name)
            ).scalar()
            or 0
        )
        values = {
            "name": name,
            "version": version,
            "digest": digest,
            "size": len(content),
            "kept": now(),
            "kept_by": user(),
            "run_uid": run.uid,
            "about": about,
            "note": note,
            "in_use": False,
            "used_since": "",
            "used_by": "",
        }
        connection.execute(t.models.insert().values(**values))
    return entry(run._runs, name, version)


def _model_of(
    run: RunRecord, state: str | None, own: Iterable[Any]
) -> tuple[bytes, dict[str, Any]]:
    """The file of a model, made from a state without what only training needs, and what is known of
    where it comes from.
    """
    from ._model import open_model

    folder = run.folder
    store = folder if folder is not None else run.store
    names = store.states()
    if not names:
        raise RunError(
            f"{run.label}: there is no state of this run here. Keep models on the machine that "
            "has its folder."
        )
    chosen = state or store.best_state() or names[-1]
    if chosen not in names:
        raise RunError(f"{run.label}: there is no state {chosen!r}. {did_you_mean(chosen, names)}")
    with tempfile.TemporaryDirectory() as place:
        source = folder.state_path(chosen) if folder is not None else Path(place) / "state.npz"
        if folder is None:
            source.write_bytes(run.store.state_content(chosen))
        model = open_model(source, own=own)
        content = model.save(Path(place) / "model.vine").read_bytes()
    return content, _about(run, chosen, model.lineage)


def _about(run: RunRecord, state: str, lineage: dict[str, Any]) -> dict[str, Any]:
    return {
        "run": run.label,
        "state": state,
        "step": lineage.get("step", 0),
        "scores": lineage.get("scores", {}),
        "settings": run.settings,
        "data": run.about.get("data") or lineage.get("data", ""),
        "commit": run.about.get("commit") or lineage.get("commit", ""),
        "parent": run.about.get("parent") or lineage.get("parent") or {},
        "begun": run.begun,
        "tags": run.tags,
    }


def _runs(place: Runs | str | os.PathLike[str]) -> Runs:
    return place if isinstance(place, Runs) else open_runs(place)


def entries(runs: Runs) -> list[Entry]:
    """All versions of all names, in order."""
    columns = [t.models.c[column] for column in Entry.__dataclass_fields__]
    with runs.ledger.reading() as connection:
        query = sa.select(*columns).order_by(t.models.c.name, t.models.c.version)
        return [Entry(**row) for row in connection.execute(query).mappings()]


def entry(
    place: Runs | str | os.PathLike[str], name: str, version: int | str | None = None
) -> Entry:
    """A version; by default the one in use, or the newest if none is.

    Raises
    ------
    RunError
        If there is none.
    """
    every = entries(_runs(place))
    own = [one for one in every if one.name == name]
    if not own:
        raise RunError(
            f"The catalogue has no model {name!r}. "
            f"{did_you_mean(name, sorted({one.name for one in every}))}"
        )
    if version is None:
        return next((one for one in own if one.in_use), own[-1])
    result = [one for one in own if str(one.version) == str(version)]
    if not result:
        raise RunError(
            f"There is no version {version} of {name}; there are "
            f"{', '.join(str(one.version) for one in own)}."
        )
    return result[0]


def models(place: Runs | str | os.PathLike[str] = RECORDS) -> pd.DataFrame:
    """A row for each version of each model of a catalogue.

    Examples
    --------
    >>> len(vs.catalogue.models(vs.runs.Runs(vs.runs.Ledger("sqlite://"), None)))
    0
    """
    import pandas as pd

    columns = ["model", "version", "in use", "run", "step", "kept", "kept by", "commit", "note"]
    rows = [
        {
            "model": one.name,
            "version": one.version,
            "in use": one.in_use,
            "run": one.about.get("run", ""),
            "step": one.about.get("step", 0),
            "kept": one.kept,
            "kept by": one.kept_by,
            "commit": str(one.about.get("commit", ""))[:10],
            "note": one.note,
            **_scores(one),
        }
        for one in entries(_runs(place))
    ]
    return pd.DataFrame(rows, columns=None if rows else columns)


def _scores(one: Entry) -> dict[str, Any]:
    return {
        str(key): value
        for key, value in one.about.get("scores", {}).items()
        if key not in ("epoch", "step", "rate")
    }


def content(
    place: Runs | str | os.PathLike[str], name: str, version: int | str | None = None
) -> bytes:
    """The file of a version, as `Model.save` wrote it; its check sum is held against the
    catalogue's.
    """
    runs = _runs(place)
    with runs.ledger.reading() as connection:
        return runs.ledger.content(connection, entry(runs, name, version).digest)


def load(
    name: str,
    *,
    version: int | str | None = None,
    place: Runs | str | os.PathLike[str] = RECORDS,
    own: Iterable[Any] = (),
) -> Model:
    """A model of the catalogue, ready to predict on raw rows.

    Parameters
    ----------
    name : str
    version : int, optional
        By default the one in use, or the newest if none is.
    place : path, URL or Runs
        Folder of runs, or address of a ledger.
    own : sequence of classes and functions
        Parts of one's own that the network has.

    Raises
    ------
    RunError
        If there is none, or its content was changed.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> kept = vs.catalogue.keep(vs.runs.open(root)["run-1"], "barrels")
    >>> vs.catalogue.load("barrels", place=root).predict(np.ones((2, 2))).shape
    (2, 1)
    """
    from ._model import open_model

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"{name}.vine"
        path.write_bytes(content(place, name, version))
        return open_model(path, own=own)


def mark_in_use(place: Runs | str | os.PathLike[str], name: str, version: int | str) -> Entry:
    """Mark a version as the one in use, with who did and when; no other of its name is then.

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> kept = vs.catalogue.keep(vs.runs.open(root)["run-1"], "barrels")
    >>> vs.catalogue.mark_in_use(root, "barrels", 1).in_use
    True
    """
    runs = _runs(place)
    runs.ledger.check_writable()
    chosen = entry(runs, name, version)
    with runs.ledger.writing() as connection:
        connection.execute(t.models.update().where(t.models.c.name == name).values(in_use=False))
        mine = (t.models.c.name == name) & (t.models.c.version == chosen.version)
        connection.execute(
            t.models.update().where(mine).values(in_use=True, used_since=now(), used_by=user())
        )
    return entry(runs, name, chosen.version)


__getattr__, __dir__ = own_names(__name__, __all__)
