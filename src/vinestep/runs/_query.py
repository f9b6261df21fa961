"""All runs of a folder or of a team, to be asked about."""

from __future__ import annotations

import fnmatch
import io
import json
import logging
import operator
import os
import re
from collections.abc import Callable, Iterator, Sequence
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import sqlalchemy as sa

from .._arguments import checked_path
from .._findings import Finding, tell
from .._notebook_html import html_curve, html_findings, html_table
from .._public_names import did_you_mean
from ..errors import RunError, UnwritableLedgerError
from ..storage import run_schema
from ..storage.lineage import now
from ..storage.run_folder import RECORDS, RunFolder
from . import _schema as t
from ._ingest import (
    catch_up,
    ingest,
    needed,
    remove_run,
)
from ._ledger import Ledger, ledger_url, own_ledger
from ._ledger_store import SCORE, LedgerStore
from ._thinning import rows_text, thinned

if TYPE_CHECKING:
    import pandas as pd


__all__ = ["RunRecord", "Runs", "open_runs", "store_of"]

ASSESSMENT_FILE, HELD_OUT_FILE = "assessment.json", "held_out.json"

log = logging.getLogger("vinestep")
_COMPARISON = re.compile(r"<=|>=|!=|==|=|<|>")
LONGEST_CONDITION = 500
MOST_DIGITS = 10  # of a run's number
MOST_NAMED = 500  # runs that a query names one by one; of more all are read
WHOLE = ("epochs", "validation")
"""Series that are never thinned."""
_HOLDS: dict[str, Callable[[Any, Any], bool]] = {
    "<": operator.lt,
    "<=": operator.le,
    ">": operator.gt,
    ">=": operator.ge,
    "=": operator.eq,
    "==": operator.eq,
    "!=": operator.ne,
}
_PLAIN = ("uid", "number", "name", "status", "epoch", "epochs", "step", "begun", "changed")


def open_runs(place: str | os.PathLike[str] = RECORDS, *, ledger: str | None = None) -> Runs:
    """The runs recorded in a folder, or in a ledger elsewhere.

    Parameters
    ----------
    place : path or URL
        Folder of runs, or the address of a ledger such as ``postgresql://host/name``.
    ledger : str, optional
        Address of the ledger; by default what ``VINESTEP_LEDGER`` says, or ``ledger.sqlite`` in the
        folder.

    Raises
    ------
    RunError
        If the ledger cannot be reached.

    Examples
    --------
    >>> import tempfile
    >>> root = tempfile.mkdtemp()
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> runs = vs.runs.open(root)
    >>> runs.table()[["run", "status", "epoch"]].values.tolist(), len(runs["run-1"].curves)
    ([['run-1', 'finished', 2]], 2)
    """
    text = str(place) if "://" in str(place) else str(checked_path(place, "runs.open"))
    if "://" in text:
        return Runs(Ledger(ledger_url(".", text)), None)
    root = Path(text)
    if not root.is_dir():
        raise RunError(f"{root}: there is no such folder of runs. Make a run: vinestep demo")
    url = ledger_url(root, ledger)
    try:
        if url == own_ledger(root) and not os.access(root, os.W_OK):
            raise UnwritableLedgerError(f"{root}: this folder may only be read.")
        runs = Runs(Ledger(url), root)
        runs.refresh()
    except UnwritableLedgerError as error:
        log.warning("%s What is shown is read anew, and not kept.", error)
        runs = Runs(Ledger.copy_in_memory(url, str(error)), root)
        runs.refresh()
    return runs


class Runs:
    """The runs of a ledger; with a folder, those in it are taken in by `refresh`.

    Examples
    --------
    >>> runs = Runs(Ledger("sqlite://"), None)
    >>> len(runs)
    0
    """

    def __init__(self, ledger: Ledger, root: Path | None) -> None:
        self.ledger, self.root = ledger, root

    def __repr__(self) -> str:
        return f"<{len(self)} runs in {self.root or self.ledger.name}>"

    def _repr_html_(self) -> str:
        frame = self.table()
        return html_table(
            repr(self)[1:-1],
            [str(name) for name in frame],
            frame.astype(object).to_numpy().tolist(),
        )

    def __len__(self) -> int:
        with self.ledger.reading() as connection:
            return int(
                connection.execute(
                    sa.select(sa.func.count()).select_from(t.runs).where(t.runs.c.label != "")
                ).scalar()
                or 0
            )

    def __iter__(self) -> Iterator[RunRecord]:
        return iter([RunRecord(self, row) for row in self._rows()])

    def refresh(self, *, anew: bool = False) -> int:
        """Take in what was recorded since; how many runs had something new.

        Parameters
        ----------
        anew : bool
            Whether every run folder is read again from its beginning.
        """
        if self.root is None:
            return 0
        if anew:
            with self.ledger.writing() as connection:
                connection.execute(t.taken.delete())
        return catch_up(self.root, self.ledger)

    def delete(self, run: RunRecord) -> None:
        """Delete a run from the ledger. A ledger whose disk was full is open as a copy in memory:
        it is deleted from the file too, for which its folder may just have made room.
        """
        remove_run(self.ledger, run.store.key)
        if self.ledger.unwritable:
            ledger = Ledger(self.ledger.address)
            store = store_of(ledger, run.uid)
            if store is not None:
                remove_run(ledger, store.key)

    def _rows(
        self, where: sa.ColumnElement[bool] | None = None, *, columns: Sequence[str] = ()
    ) -> list[dict[str, Any]]:
        chosen = [t.runs.c[name] for name in columns] if columns else list(t.runs.c)
        query = sa.select(*chosen).where(t.runs.c.label != "")
        if where is not None:
            query = query.where(where)
        with self.ledger.reading() as connection:
            found = connection.execute(query.order_by(t.runs.c.number, t.runs.c.id))
            return [dict(row) for row in found.mappings()]

    def __getitem__(self, which: str | int) -> RunRecord:
        """A run by its label, number, folder or identity.

        Raises
        ------
        RunError
            If there is none, or several.
        """
        wanted = str(which).rstrip("/")
        columns = t.runs.c
        named = (columns.label == wanted) | (columns.uid == wanted)
        if wanted.isascii() and wanted.isdecimal() and len(wanted) < MOST_DIGITS:
            named |= columns.number == int(wanted)
        result = [
            row
            for row in self._rows(named)
            if wanted in (row["label"], str(row["number"]), row["uid"])
        ]
        if not result and "\0" not in wanted:
            result = self._rows(columns.folder == str(Path(wanted).resolve()))
        if not result:
            raise RunError(
                f"There is no run {wanted!r} in {self.root or self.ledger.name}. "
                f"{_newest(self._rows(columns=['label']))}"
            )
        if len(result) > 1:
            raise RunError(
                f"{wanted!r} are {len(result)} runs: {', '.join(r['label'] for r in result[:6])}. "
                "Name one of them whole."
            )
        return RunRecord(self, result[0])

    def table(
        self,
        *,
        name: str | None = None,
        tag: str | None = None,
        status: str | None = None,
        where: Sequence[str] = (),
        text: Sequence[str] = (),
        sort: str | None = None,
        columns: Sequence[str] = (),
    ) -> pd.DataFrame:
        """A row for each run: what it is, how far it is, its last and best figures.

        Parameters
        ----------
        name : str, optional
            Pattern of names, such as ``"barrels*"``.
        tag, status : str, optional
        where : sequence of str
            Conditions on any setting, score or column, such as ``"optimiser.rate>0.01"`` or
            ``"validation_loss<0.4"``, or on a tag, ``"tag=good"``.
        text : sequence of str
            Each is to be in a run's label, tags, notes or values of settings, in whatever case.
        sort : str, optional
            A column, setting or score; with a minus before it, from high to low.
        columns : sequence of str
            Settings and scores that are wanted besides.

        Raises
        ------
        RunError
            If a condition cannot be read, or nothing is called so.
        """
        import pandas as pd

        conditions = [_condition(one) for one in where]
        wanted = (
            ({one for one, _, _ in conditions} - {"tag"})
            | set(columns)
            | ({sort.lstrip("-")} if sort else set())
        )
        rows = [
            r
            for r in self._rows(columns=("id", "label", *_PLAIN))
            if (name is None or fnmatch.fnmatch(r["label"], name) or r["name"] == name)
        ]
        tags = self._grouped(t.tags, "tag")
        for words in text:
            inside = self._with_text(words, rows, tags)
            rows = [row for row in rows if row["id"] in inside]
        scores = self._scores()
        values = self._values(wanted, rows, scores)
        self._check_known(wanted, values, rows)
        found = []
        for row in rows:
            own = tags.get(row["id"], [])
            known = values.get(row["id"], {}) | {column: row[column] for column in _PLAIN}
            known["tag"] = own
            if (tag is not None and tag not in own) or (
                status is not None and row["status"] != status
            ):
                continue
            if all(_holds(known.get(one), how, value) for one, how, value in conditions):
                found.append((row, own, known))
        if sort:
            key = sort.lstrip("-")
            have = [item for item in found if item[2].get(key) is not None]
            have.sort(
                key=lambda item: (isinstance(item[2][key], str), item[2][key]),
                reverse=sort.startswith("-"),
            )
            found = have + [item for item in found if item[2].get(key) is None]
        listed = []
        for row, own, known in found:
            line = {
                "run": row["label"],
                "status": row["status"],
                "epoch": row["epoch"],
                "epochs": row["epochs"],
                "step": row["step"],
            }
            line |= {"begun": row["begun"], "tags": " ".join(own)}
            line |= {
                column: known.get(column)
                for column in [*columns, *([sort.lstrip("-")] if sort else [])]
                if column not in line
            }
            listed.append(
                line
                | {
                    one: value
                    for one, value in scores.get(row["id"], {}).items()
                    if one not in line
                }
            )
        return pd.DataFrame(listed)

    def _grouped(self, table: sa.Table, column: str) -> dict[int, list[str]]:
        result: dict[int, list[str]] = {}
        with self.ledger.reading() as connection:
            for run, value in connection.execute(
                sa.select(table.c.run, table.c[column]).order_by(table.c[column])
            ):
                result.setdefault(run, []).append(value)
        return result

    def _with_text(
        self, text: str, rows: list[dict[str, Any]], tags: dict[int, list[str]]
    ) -> set[int]:
        """Runs that have a text in their label, tags, notes or values of settings."""
        if len(text) > LONGEST_CONDITION:
            raise RunError(f"A text of {len(text)} characters is longer than {LONGEST_CONDITION}.")
        wanted = text.lower()
        found = {
            row["id"]
            for row in rows
            if any(wanted in word.lower() for word in (row["label"], *tags.get(row["id"], ())))
        }
        with self.ledger.reading() as connection:
            for table, column in ((t.notes, "text"), (t.settings, "value")):
                query = sa.select(table.c.run).where(
                    table.c[column].icontains(text, autoescape=True)
                )
                found |= set(connection.execute(query.distinct()).scalars())
        return found

    def _scores(self) -> dict[int, dict[str, float]]:
        result: dict[int, dict[str, float]] = {}
        with self.ledger.reading() as connection:
            for run, name, last, best in connection.execute(
                sa.select(t.scores.c.run, t.scores.c.name, t.scores.c.last, t.scores.c.best)
            ):
                own = result.setdefault(run, {})
                own[name] = last
                if best is not None:
                    own[f"best {name}"] = best
        return result

    def _values(
        self, wanted: set[str], rows: list[dict[str, Any]], scores: dict[int, dict[str, float]]
    ) -> dict[int, dict[str, Any]]:
        """Settings and scores by name, of each run: of settings numbers where they are, else
        texts.
        """
        result: dict[int, dict[str, Any]] = {row["id"]: {} for row in rows}
        if not wanted:
            return result
        with self.ledger.reading() as connection:
            query = sa.select(
                t.settings.c.run, t.settings.c.name, t.settings.c.value, t.settings.c.number
            ).where(t.settings.c.name.in_(wanted))
            for run, name, value, number in connection.execute(query):
                result.setdefault(run, {})[name] = value if number is None else number
        for run, own in scores.items():
            result.setdefault(run, {}).update(
                {name: value for name, value in own.items() if name in wanted}
            )
        return result

    def _check_known(
        self, wanted: set[str], values: dict[int, dict[str, Any]], rows: list[dict[str, Any]]
    ) -> None:
        known = set(_PLAIN).union(*values.values()) if values else set(_PLAIN)
        for name in sorted(wanted - known):
            if rows:
                raise RunError(
                    f"No run has a setting or score {name!r}. {did_you_mean(name, self.names())}"
                )

    def names(self) -> list[str]:
        """All settings and scores that any run has."""
        with self.ledger.reading() as connection:
            settings = set(connection.execute(sa.select(t.settings.c.name).distinct()).scalars())
        return sorted(settings.union(*self._scores().values()) | set(_PLAIN))

    def settings(
        self, labels: Sequence[str] = (), *, by: Literal["label", "uid"] = "label"
    ) -> pd.DataFrame:
        """Settings of runs, a row each; empty where a run does not have one.

        Parameters
        ----------
        labels : sequence of str
            By default all runs.
        by : "label" or "uid"
            What `labels` are, and what the rows are called: runs of a team's members may have equal
            labels, never equal identities.
        """
        import pandas as pd

        wanted = set(labels)
        rows = {
            row["id"]: row[by]
            for row in self._rows(columns=("id", by))
            if not labels or row[by] in wanted
        }
        settings: dict[int, dict[str, Any]] = {key: {} for key in rows}
        with self.ledger.reading() as connection:
            query = sa.select(
                t.settings.c.run, t.settings.c.name, t.settings.c.value, t.settings.c.number
            )
            for run, name, value, number in connection.execute(
                query.where(t.settings.c.run.in_(list(rows))) if len(rows) < MOST_NAMED else query
            ):
                if run in settings:
                    settings[run][name] = value if number is None else number
        return pd.DataFrame(list(settings.values()), index=list(rows.values()))


def store_of(ledger: Ledger, uid: str) -> LedgerStore | None:
    """A run of a ledger by its identity."""
    with ledger.reading() as connection:
        key = connection.execute(sa.select(t.runs.c.id).where(t.runs.c.uid == uid)).scalar()
    return None if key is None else LedgerStore(ledger, key)


def _newest(rows: list[dict[str, Any]]) -> str:
    newest = ", ".join(row["label"] for row in rows[-5:])
    return f"Newest: {newest}." if newest else "It holds none yet. Make one: vinestep demo"


def _condition(text: str) -> tuple[str, str, Any]:
    if len(text) > LONGEST_CONDITION:
        raise RunError(
            f"A condition of {len(text)} characters is longer than {LONGEST_CONDITION}: "
            f"{text[:40]!r}..."
        )
    match = _COMPARISON.search(text)
    name, how, value = (
        (text[: match.start()].strip(), match[0], text[match.end() :].strip())
        if match
        else ("", "", "")
    )
    if not name or not value or "!" in name or "~" in name:
        raise RunError(
            f"{text!r} is no condition. Write a name, one of < <= > >= = !=, and a value: "
            "optimiser.rate>0.01."
        )
    if name == "tag":
        if how not in ("=", "==", "!="):
            raise RunError(f"{text!r}: a run has a tag or not. Write tag={value}, or tag!={value}.")
        return name, how, value.strip("'\"")
    try:
        return name, how, float(value)
    except ValueError:
        return name, how, value.strip("'\"")


def _holds(known: Any, how: str, value: Any) -> bool:
    if known is None:
        return False
    if isinstance(known, list):
        return (value in known) != (how == "!=")
    if isinstance(value, str) or isinstance(known, str):
        known, value = str(known), str(value)
    return _HOLDS[how](known, value)


class RunRecord:
    """What is known of one run.

    Attributes
    ----------
    label, name, status, reason, begun : str
    number, epoch, epochs, step : int

    Examples
    --------
    >>> import tempfile
    >>> root, data = tempfile.mkdtemp(), vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=root
    ... )
    >>> run = vs.runs.open(root)["run-1"]
    >>> run.status, len(run.curves), run.settings["optimiser.kind"], run.tag(["oak"])
    ('finished', 2, 'adam', ['oak'])
    """

    def __init__(self, runs: Runs, row: dict[str, Any]) -> None:
        self._runs, self._row = runs, row
        self.store = LedgerStore(runs.ledger, row["id"])
        self.label: str = row["label"]
        self.name: str = row["name"]
        self.number: int = row["number"]
        self.uid: str = row["uid"]
        self.status: str = row["status"]
        self.reason: str = row["reason"]
        self.epoch: int = row["epoch"]
        self.epochs: int = row["epochs"]
        self.step: int = row["step"]
        self.begun: str = row["begun"]
        self.changed: str = row["changed"]
        self.about: dict[str, Any] = row["about"]
        self.plan: dict[str, Any] = row["plan"]

    def __repr__(self) -> str:
        return (
            f"<{self.label} {self.status}: "
            f"{self.reason or f'epoch {self.epoch} of {self.epochs}, step {self.step}'}>"
        )

    def _repr_html_(self) -> str:
        rows = self.curves.to_dict("records")
        against = "epoch" if len(rows) and "epoch" in rows[0] else "step"
        curve = html_curve(
            [{str(name): value for name, value in row.items()} for row in rows],
            ["loss", "validation_loss"],
            against,
        )
        scores = [
            [name, *row]
            for name, row in zip(
                self.scores.index, self.scores[["last", "best"]].to_numpy().tolist(), strict=True
            )
        ]
        told = html_findings(self.diagnose(), "What the record says")
        table = html_table("Scores", ["figure", "last", "best"], scores)
        return f"<div><b>{escape(repr(self)[1:-1])}</b></div>{curve}{table}{told}"

    @property
    def folder(self) -> RunFolder | None:
        """Its folder, where that is on this machine; another run may lie at the same path here."""
        place = self._row["folder"]
        if not place or not (Path(place) / "run.json").is_file():
            return None
        folder = RunFolder(place)
        try:
            found = folder.read_status().get("uid", self.uid)
        except RunError:
            return None
        return folder if found == self.uid else None

    def refresh(self) -> RunRecord:
        """The run as it is now."""
        if (folder := self.folder) is not None:
            ingest(folder, self._runs.ledger)
        return RunRecord(self._runs, self.store.row())

    # what was recorded

    @property
    def series_names(self) -> list[str]:
        return self.store.series_names()

    def series(self, name: str) -> pd.DataFrame:
        """The rows of a series, such as "epochs", "steps", "norms", "distributions", "machine";
        empty if there is none.
        """
        return self.store.frame(name)

    @property
    def curves(self) -> pd.DataFrame:
        """A row for each epoch; of a run that is counted in steps, for each step."""
        frame = self.series("epochs")
        return frame if len(frame) else self.series("steps")

    @property
    def steps(self) -> pd.DataFrame:
        """A row for each step that was recorded."""
        return self.series("steps")

    @property
    def settings(self) -> dict[str, Any]:
        """Settings by dotted names."""
        with self._runs.ledger.reading() as connection:
            query = sa.select(t.settings.c.name, t.settings.c.value, t.settings.c.number).where(
                t.settings.c.run == self.store.key
            )
            return {
                name: value if number is None else number
                for name, value, number in connection.execute(query.order_by(t.settings.c.id))
            }

    @property
    def scores(self) -> pd.DataFrame:
        """Of each figure: last, best, the epoch and the step of the best, and whether "higher" or
        "lower" is better.
        """
        import pandas as pd

        with self._runs.ledger.reading() as connection:
            query = sa.select(*(t.scores.c[name] for name in SCORE))
            rows = (
                connection.execute(
                    query.where(t.scores.c.run == self.store.key).order_by(t.scores.c.id)
                )
                .mappings()
                .all()
            )
        return pd.DataFrame(list(map(dict, rows)), columns=list(SCORE)).set_index("name")

    @property
    def better(self) -> dict[str, str]:
        """Of each figure that can be judged: whether "higher" or "lower" is better."""
        return dict(self.about.get("better") or {}) or {"loss": "lower", "validation_loss": "lower"}

    @property
    def assessment(self) -> dict[str, dict[str, Any]]:
        """Scores of parts of the data, with their intervals, as they were written when the run had
        ended: value and interval by part and score.

        Raises
        ------
        RunError
            If the record of them is damaged.
        """
        if ASSESSMENT_FILE not in self.file_names:
            return {}
        path, content = Path(self.label, ASSESSMENT_FILE), self.read_file(ASSESSMENT_FILE)
        found: dict[str, dict[str, Any]] = run_schema.validated(
            path, content, run_schema.ASSESSMENT
        )
        return found

    @property
    def held_out(self) -> dict[str, Any]:
        """What the best state did on the validation part: ``loss`` with ``loss_error``, and by
        target, where they are classes, how often each is true, decided and expected; empty where
        that was not recorded, or is damaged.
        """
        if HELD_OUT_FILE not in self.file_names:
            return {}
        path, content = Path(self.label, HELD_OUT_FILE), self.read_file(HELD_OUT_FILE)
        try:
            found: dict[str, Any] = run_schema.validated(path, content, run_schema.HELD_OUT)
        except RunError as error:
            tell([Finding(f"the run {self.label}", "wrong", f"{error}", "Train it again.")])
            return {}
        return found

    @property
    def runs(self) -> list[RunRecord]:
        """All runs of the ledger in which it is listed."""
        return list(self._runs)

    @property
    def tags(self) -> list[str]:
        return self.store.tags()

    @property
    def notes(self) -> list[dict[str, str]]:
        return self.store.notes()

    @property
    def console(self) -> str:
        return self.store.read_console()

    @property
    def file_names(self) -> list[str]:
        return self.store.file_names()

    def read_file(self, name: str) -> bytes:
        """A file of the record."""
        return self.store.read_file(name)

    def at_steps(self, name: str, suffix: str) -> dict[int, str]:
        """Files of a name at steps: by step, such as of the tables "samples"."""
        pattern = re.compile(rf"^{re.escape(name)}-(\d{{8}})\.{suffix}$")
        found = [(match, file) for file in self.file_names if (match := pattern.match(file))]
        return {int(match[1]): file for match, file in sorted(found, key=lambda item: item[1])}

    def table_at(self, file: str) -> pd.DataFrame:
        """A recorded table."""
        import pandas as pd

        return pd.read_csv(io.BytesIO(self.read_file(file)))

    def seconds(self) -> float:
        """Of training, as far as it is recorded."""
        for name in ("steps", "machine"):
            frame = self.series(name)
            if len(frame) and "seconds" in frame:
                return float(frame["seconds"].max())
        return float("nan")

    # what is done with it

    def tag(self, add: Sequence[str] = (), remove: Sequence[str] = ()) -> list[str]:
        """Add and remove tags; those it has then."""
        folder = self.folder
        now = sorted(
            (set(folder.tags() if folder is not None else self.tags) | set(add)) - set(remove)
        )
        if folder is not None:
            folder.set_tags(now)
            ingest(folder, self._runs.ledger)
        else:
            self._runs.ledger.check_writable()
            self.store.set_tags(now)
        return now

    def note(self, text: str) -> None:
        """Write a note down, with the time."""
        folder = self.folder
        if folder is not None:
            folder.add_note(text)
            ingest(folder, self._runs.ledger)
        else:
            self._runs.ledger.check_writable()
            self.store.add_notes([{"at": now(), "text": text}])

    def ask(self, what: str, text: str = "") -> None:
        """Ask the run to "stop" or to "finish", wherever it runs.

        Raises
        ------
        RunError
            If it is not running.
        """
        from ..storage.run_store import Request

        folder = self.folder
        if folder is not None:
            folder.ask(Request(what, text))
        elif self.refresh().status == "running":
            self._runs.ledger.check_writable()
            self.store.ask(Request(what, text))
        else:
            raise RunError(
                f"{self.label}: nobody is at work on this run, so it cannot be asked to {what}."
            )

    def thin(self, rows: int = 2000) -> dict[str, tuple[int, int]]:
        """Make series with more rows shorter: of equal stretches the first row and those in which
        the loss, or the first figure, is lowest and highest, and the last row. Epochs and scores
        of the validation stay as they are. A note says what was done.

        Parameters
        ----------
        rows : int
            At most so many of each series.

        Returns
        -------
        done : dict of series to (rows before, rows now)

        Raises
        ------
        RunError
            If the run is running, or its folder is on another machine.
        """
        folder = self.folder
        self._check_ended(folder, "Thin")
        if folder is None:
            self._runs.ledger.check_writable()
        store = folder if folder is not None else self.store
        done = {}
        for name in self.series_names:
            frame = self.series(name)
            short = thinned(frame, rows)
            if name not in WHOLE and len(short) < len(frame):
                lines = short.to_dict("records")
                store.write_series(name, [{str(k): v for k, v in one.items()} for one in lines])
                done[name] = len(frame), len(short)
        if done:
            self.note(f"Thinned: {rows_text(done)}.")
        return done

    def _check_ended(self, folder: RunFolder | None, what: str) -> None:
        if folder is not None and folder.is_held():
            raise RunError(
                f"{self.label}: this run is running. Stop it first: vinestep stop {self.label}."
            )
        if self.status == "running" and folder is None:
            raise RunError(
                f"{self.label}: this run is running on another machine. Stop it first: vinestep "
                f"stop {self.label}."
            )
        place = self._row["folder"]
        if folder is None and place and (Path(place) / "run.json").is_file():
            raise RunError(
                f"{self.label}: its folder {place} is on another machine, and here another run "
                f"lies at that path. {what} it there."
            )

    def remove(self) -> None:
        """Remove the run: its folder and what the ledger knows of it.

        Raises
        ------
        RunError
            If it is running, or a kept model comes from it and its folder.
        """
        import shutil

        folder = self.folder
        self._check_ended(folder, "Remove")
        if models := needed(self._runs.ledger, self.uid):
            raise RunError(
                f"{self.label}: the catalogue needs this run: {', '.join(models)} came from it."
            )
        if folder is not None:
            # renamed first: removed by halves it would be a folder that no command lists, whereas
            # what is left of this name is cleared when the next run begins
            leaving = folder.path.with_name(f".{folder.path.name}.new")
            shutil.rmtree(leaving, ignore_errors=True)
            folder.path.rename(leaving)
            shutil.rmtree(leaving, ignore_errors=True)
        else:
            self._runs.ledger.check_writable()
        try:
            self._runs.delete(self)
        except UnwritableLedgerError as error:
            raise UnwritableLedgerError(
                f"{self.label}: its folder is removed, the ledger lists it still: {error} Then "
                "remove it once more."
            ) from error

    def diagnose(self) -> list[Finding]:
        """What the record says of how the run went; see `vinestep.runs.diagnose`."""
        from .diagnosis._diagnose import diagnose

        return diagnose(self)

    def as_dict(self) -> dict[str, Any]:
        """What is known of the run, as JSON can hold it."""
        return {
            "run": self.label,
            "number": self.number,
            "name": self.name,
            "status": self.status,
            "reason": self.reason,
            "epoch": self.epoch,
            "epochs": self.epochs,
            "step": self.step,
            "begun": self.begun,
            "changed": self.changed,
            "tags": self.tags,
            "notes": self.notes,
            "settings": self.settings,
            "about": {k: v for k, v in self.about.items() if k != "settings"},
            "scores": json.loads(self.scores.reset_index().to_json(orient="records")),
            "series": self.series_names,
            "files": self.file_names,
        }
