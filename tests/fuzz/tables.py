"""CSV files with every kind of slip: read as they are, or refused in words."""

import csv
import io
import tempfile
import warnings
from pathlib import Path

import numpy as np

import vinestep as vs
from vinestep.errors import VineStepError

NUMBERS = (
    "0",
    "1.5",
    "-3",
    "1700000000",
    "1700000001",
    "1e39",
    "inf",
    "-1e300",
    "",
    "nan",
    "12,5",
    "abc",
    " 7 ",
    "1e5",
    "0x10",
    "1_000",
    "1" * 400,
)
TEXTS = (
    "Alder",
    "Brun",
    "missing",
    "",
    "a,b",
    'say "so"',
    "süß",
    "two\nlines",
    "NA",
    "None",
    "  x",
    "1",
    "葡萄",
    "missing cell",
    "a=b",
)
CLASSES = ("sound", "stuck", "spoiling")
HEADERS = (
    ("pH", "cooper", "age", "state"),
    ("0", "cooper", "age", "state"),
    ("pH", "pH", "age", "state"),
    ("pH", "state", "age", "state"),
)
SLIPS = ("\x00", ",", '"', "\n", "\r", ";", "é", "\ufeff", "\t", "'")
MISSING = {
    "",
    "nan",
    "NA",
    "None",
    "null",
    "N/A",
    "NULL",
    "NaN",
    "n/a",
    "#N/A",
    "-nan",
    "<NA>",
    "#NA",
    "1.#IND",
    "1.#QNAN",
    "-1.#IND",
    "-1.#QNAN",
    "-NaN",
}


def choice(rng, options):
    return options[int(rng.integers(len(options)))]


def table(rng):
    header = choice(rng, HEADERS) if rng.random() < 0.3 else HEADERS[0]
    odd = rng.random() < 0.5
    rows = []
    for _ in range(int(rng.integers(0, 12))):
        number = choice(rng, NUMBERS) if odd and rng.random() < 0.2 else f"{rng.normal():.4f}"
        rows.append([number, choice(rng, TEXTS), str(int(rng.integers(100))), choice(rng, CLASSES)])
    if rows and rng.random() < 0.15:
        rows[int(rng.integers(len(rows)))].append("more")
    if rows and rng.random() < 0.15:
        rows[int(rng.integers(len(rows)))].pop()
    if rng.random() < 0.1:
        rows = [[*row, "more"] for row in rows]
    buffer = io.StringIO()
    csv.writer(buffer).writerows([header, *rows])
    text = buffer.getvalue()
    for _ in range(int(rng.integers(0, 3)) if rng.random() < 0.4 else 0):
        at = int(rng.integers(len(text) + 1))
        text = text[:at] + choice(rng, SLIPS) + text[at + int(rng.integers(2)) :]
    return text


def encoded(rng, text):
    kind = choice(rng, ("utf-8", "utf-8", "utf-8", "utf-8-sig", "latin-1", "utf-16"))
    return text.encode(kind, errors="replace")


def disagreement(found, content):
    """Where the table says something else than the file; empty if nowhere. Read by other means than
    the library's.
    """
    rows = [row for row in csv.reader(io.StringIO(content.decode("utf-8-sig"), newline="")) if row]
    header, cells = (
        [name or f"Unnamed: {i}" for i, name in enumerate(rows[0])],
        rows[1:],
    )  # as pandas calls them
    if len(set(header)) < len(header):
        return "two columns of one name were taken"
    if any(len(row) != len(header) for row in cells):
        return "a row with more or fewer cells than the header was taken"
    if len(cells) != len(found):
        return f"{len(found)} rows of {len(cells)}"
    for column, name in enumerate(found.encoding.numeric):
        for row, value in zip(cells, found.inputs[:, column], strict=True):
            text = row[header.index(name)].strip()
            if (text in MISSING) != bool(np.isnan(value)) or (
                text not in MISSING and not np.isclose(float(text), value, rtol=1e-12)
            ):
                return f"{name} holds {value} where the file says {text!r}"
    if (
        not np.isfinite(found.targets).all()
        or (np.abs(found.inputs[~np.isnan(found.inputs)]) > 3.5e38).any()
    ):
        return "values beyond float32"
    return ""


def attempt(seed):
    rng = np.random.default_rng([seed, 0x7AB1E])
    content = encoded(rng, table(rng))
    target = choice(rng, ("state", "state", "state", "age", "cooper", "pH", "nothing"))
    with (
        tempfile.TemporaryDirectory() as root,
        warnings.catch_warnings(),
        np.errstate(all="ignore"),
    ):
        warnings.simplefilter("ignore")
        path = Path(root) / "cellar.csv"
        path.write_bytes(content)
        try:
            found = vs.data.Table(path, target=target)
        except VineStepError:
            return "refused"
        except Exception as error:
            return f"raw {type(error).__name__}: {str(error)[:200]}"
        try:
            what = disagreement(found, content)
        except (ValueError, UnicodeDecodeError, csv.Error) as error:
            what = f"it was read though the file is {type(error).__name__}: {error}"
        if what:
            return f"wrong: {what}"
        try:
            parts = vs.data.scaled(found)
            if not np.isfinite(parts[0].inputs).all() or parts[0].inputs.dtype != np.float32:
                return "wrong: scaled inputs that are not finite float32"
        except VineStepError:
            return "refused"
        except Exception as error:
            return f"raw {type(error).__name__} on scaling: {str(error)[:200]}"
    return "right"
