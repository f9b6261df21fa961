"""Checkpoint files changed in every field of their JSON and of their zip, put where a run would
continue from them.

The run goes on from a sound state or refuses in words; nothing outside its folder is touched, and
memory stays bounded.
"""

import copy
import hashlib
import io
import json
import resource
import shutil
import struct
import tempfile
import warnings
import zipfile
from pathlib import Path

import numpy as np

import vinestep as vs
from vinestep.errors import VineStepError
from vinestep.storage import archive as archives

MOST_MEMORY = 400 << 20  # bytes that an attempt may add to what the process needed before
VALUES = (
    *(
        None,
        True,
        -1,
        0,
        10**30,
        -(10**400 // 10**390),
        1e308,
        0.5,
        "",
        "x",
        "../../victim.txt",
        "/etc/passwd",
        "a/../b",
    ),
    *(
        [],
        {},
        [1, 2],
        [None],
        {"score": 1},
        [["../../victim.txt"]],
        [{"score": 0.1, "step": -5}],
        [{"score": "x", "step": 2}],
        "NaN",
    ),
)
RAW = (
    "1e999",
    "-1e999",
    "NaN",
    "Infinity",
    "[" * 100_000,
    '{"a":' * 5_000,
    '"\\ud800"',
    "1" * 5_000,
    "tru",
    "",
)
NAMES = (
    "../../victim.npy",
    "/tmp/victim.npy",
    "..\\victim.npy",
    "weights/0/weight.npy",
    "x.pkl",
    "C:victim.npy",
    "a" * 60_000 + ".npy",
    "\x00.npy",
)
DTYPES = (
    "<c16",
    "|b1",
    "<M8[s]",
    "|O",
    "<U5",
    "<i8",
    "<f2",
    "[('a', '<f8')]",
    "|V8",
    ">f4",
    "|S3",
    "nonsense",
)
SHAPES = (
    "(10000000000000,)",
    "(2, 3, 4)",
    "(-1,)",
    "()",
    "(0, 10000000000000000000)",
    "(1.5,)",
    "'x'",
    "(" * 300,
)

_sound = {}


class Undrawn(vs.observers.Curves):
    """Curves without their picture, which takes longer than all the rest."""

    def _draw(self, run):
        pass


class Keeper(vs.observers.Observer):
    """Copies the folder of a run under way."""

    def __init__(self, target):
        self.target = target

    def after_epoch(self, run, row):
        if row["epoch"] == 3:
            shutil.copytree(run.folder, self.target)
            run.stop("enough", resumable=True)


def training():
    network = vs.Stack(vs.Dense(3), vs.relu, vs.BatchNorm(), vs.Dense(2))
    return vs.Training(network, loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy], seed=1)


def run(**options):
    rng = np.random.default_rng(0)
    data = vs.data.Dataset(rng.normal(size=(12, 2)), np.arange(12) % 2)
    validation = vs.data.Dataset(rng.normal(size=(4, 2)), np.arange(4) % 2)
    watchers = [
        vs.observers.Patience(50),
        vs.observers.Checkpoints("best", keep=2),
        Undrawn(),
        *options.pop("watch", []),
    ]
    return training().run(
        data.batches(6), validation=validation.batches(4), epochs=4, observers=watchers, **options
    )


def sound_folder():
    """A run interrupted in its third epoch, made once."""
    if "folder" not in _sound:
        root = Path(tempfile.mkdtemp())
        outcome = run(record=root / "records", watch=[Keeper(root / "copy")])
        _sound["folder"], _sound["file"] = (
            outcome.folder,
            sorted((outcome.folder / "states").glob("step-*"))[-1],
        )
        run(resume=shutil.copytree(outcome.folder, root / "again"))
        _sound["memory"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10
    return _sound["folder"], _sound["file"]


def sealed(body):
    """With the right check sum: made by somebody who knows how."""
    body = body[:-64] if body[-64:] == b"0" * 64 else body
    return body + hashlib.sha256(body).hexdigest().encode()


def packed(members, **fields):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", fields.get("compression", zipfile.ZIP_STORED)) as archive:
        for name, content in members:
            archive.writestr(
                zipfile.ZipInfo(name),
                content,
                compress_type=fields.get("compression", zipfile.ZIP_STORED),
            )
        archive.comment = b"0" * 64
    return buffer.getvalue()


def places(tree, path=()):
    """Paths to all fields."""
    yield path
    items = (
        tree.items()
        if isinstance(tree, dict)
        else enumerate(tree)
        if isinstance(tree, list)
        else ()
    )
    for key, value in items:
        yield from places(value, (*path, key))


def changed_json(rng, meta):
    """One field replaced, left out, or one more."""
    meta = copy.deepcopy(meta)
    where = list(places(meta))
    path = where[int(rng.integers(1, len(where)))]
    at = meta
    for key in path[:-1]:
        at = at[key]
    what = rng.random()
    if what < 0.2:
        del at[path[-1]]
    elif what < 0.3 and isinstance(at, dict):
        at["more"] = 1
    elif what < 0.85:
        at[path[-1]] = VALUES[int(rng.integers(len(VALUES)))]
    else:
        at[path[-1]] = "@@"
        return json.dumps(meta).replace('"@@"', RAW[int(rng.integers(len(RAW)))])
    return json.dumps(meta)


def changed_array(rng, content):
    """The header of an array, or its numbers."""
    text = content[10 : 10 + struct.unpack("<H", content[8:10])[0]].decode("latin1")
    what = rng.random()
    if what < 0.3:
        new = text.replace(
            text[text.index("'descr': ") + 9 : text.index(", 'fortran")],
            repr(DTYPES[int(rng.integers(len(DTYPES)))]),
        )
    elif what < 0.6:
        new = text[: text.index("'shape': ") + 9] + SHAPES[int(rng.integers(len(SHAPES)))] + ", }"
    else:
        numbers = (
            np.frombuffer(content[10 + len(text) :], np.float32).copy()
            if len(content[10 + len(text) :]) % 4 == 0
            else np.zeros(1, "f4")
        )
        numbers[:1] = (np.nan, np.inf, -np.inf)[int(rng.integers(3))]
        return content[: 10 + len(text)] + numbers.tobytes()
    new = new.strip()[:60_000].ljust(len(text) - 1) + "\n"
    return (
        content[:8] + struct.pack("<H", len(new)) + new.encode("latin1") + content[10 + len(text) :]
    )


def changed(rng, sound):
    """The bytes of another file."""
    with zipfile.ZipFile(sound) as archive:
        members = [(name, archive.read(name)) for name in archive.namelist()]
    number = int(rng.integers(len(members) - 1))
    what = rng.random()
    if what < 0.45:
        meta = json.loads(members[-1][1])
        members[-1] = (members[-1][0], changed_json(rng, meta))
    elif what < 0.65:
        members[number] = (members[number][0], changed_array(rng, members[number][1]))
    elif what < 0.75:
        members[number] = (NAMES[int(rng.integers(len(NAMES)))], members[number][1])
    elif what < 0.8:
        return sealed(packed(members, compression=zipfile.ZIP_DEFLATED))
    elif what < 0.85:
        bomb = b"\x00" * (1 << 24)
        return sealed(packed([*members, ("bomb.npy", bomb)], compression=zipfile.ZIP_DEFLATED))
    else:
        content = bytearray(sound.read_bytes())
        for _ in range(int(rng.integers(1, 4))):
            content[int(rng.integers(len(content) - 64))] = int(rng.integers(256))
        return bytes(content) if what < 0.9 else sealed(bytes(content[:-64]))
    try:
        return sealed(packed(members))
    except (ValueError, struct.error):
        return sealed(packed(members[:-1]))


def attempt(seed):
    rng = np.random.default_rng([seed, 0xF11E])
    folder, sound = sound_folder()
    with (
        tempfile.TemporaryDirectory() as root,
        warnings.catch_warnings(),
        np.errstate(all="ignore"),
    ):
        warnings.simplefilter("ignore")
        victim = Path(root) / "victim.txt"
        victim.write_text("mine")
        copied = shutil.copytree(folder, Path(root) / "records" / "run-1")
        content = changed(rng, sound)
        if rng.random() < 0.5:
            for old in (copied / "states").glob("*"):
                old.unlink()
        (copied / "states" / sound.name).write_bytes(content)
        before = set(Path(root).rglob("*"))
        try:
            archives.read(copied / "states" / sound.name)
        except VineStepError:
            pass
        except Exception as error:
            return f"raw {type(error).__name__} on reading: {str(error)[:200]}"
        try:
            outcome = run(resume=copied)
            found = "right"
            if not all(np.isfinite(row["loss"]) for row in outcome.rows):
                return "wrong: a run went on with figures that are not finite"
        except VineStepError:
            found = "refused"
        except Exception as error:
            return f"raw {type(error).__name__} on resuming: {str(error)[:200]}"
        strange = [
            path for path in set(Path(root).rglob("*")) - before if copied not in path.parents
        ]
        if victim.read_text() != "mine" or strange:
            return f"wrong: something outside the run's folder was touched: {strange}"
    if (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss << 10) - _sound["memory"] > MOST_MEMORY:
        return "wrong: it took more memory than the file could explain"
    return found
