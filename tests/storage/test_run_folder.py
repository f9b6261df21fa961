"""No file can harm, no run is lost: folders, locks, damaged and crafted files, full disks."""

import io
import json
import os
import shutil
import subprocess
import sys
import textwrap
import time
import zipfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import ArchiveError, RunError
from vinestep.parts._describe import describe
from vinestep.storage import archive, run_folder as folders
from vinestep.storage.settings import differences
from vinestep.training import Status


def data(n=24, seed=0, scale=1.0):
    x = np.random.default_rng(seed).normal(size=(n, 3)).astype(np.float32) * np.float32(scale)
    return vs.data.Dataset(x, np.arange(n) % 2)


def training(width=4, activation=vs.relu, **options):
    settings = {
        "loss": vs.losses.cross_entropy,
        "optimiser": vs.optimisers.Adam(0.01),
        "seed": 3,
    } | options
    return vs.Training(vs.Stack(vs.Dense(width), activation, vs.Dense(2)), **settings)


class StopAt(vs.observers.Observer):
    def __init__(self, step):
        self.step = step

    def after_step(self, run, step):
        if step.number == self.step:
            run.stop("enough", resumable=True)


@pytest.fixture
def interrupted(tmp_path):
    outcome = training().run(
        data().batches(8), epochs=4, record=tmp_path / "records", observers=[StopAt(5)]
    )
    assert outcome.status is Status.INTERRUPTED
    return outcome.folder


def newest(folder):
    return sorted((folder / "states").glob("step-*.npz"))[-1]


def rewritten(file, change):
    """A checkpoint with its JSON changed, under the right check sum: by somebody who knows how."""
    with zipfile.ZipFile(file) as packed:
        members = {name: packed.read(name) for name in packed.namelist()}
    meta = json.loads(members[archive.META])
    change(meta)
    members[archive.META] = json.dumps(meta).encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as packed:
        for name, content in members.items():
            packed.writestr(name, content)
        packed.comment = b"0" * 64
    import hashlib

    body = buffer.getvalue()[:-64]
    file.write_bytes(body + hashlib.sha256(body).hexdigest().encode())


def test_a_checkpoint_can_not_name_a_file_to_delete(interrupted, tmp_path):
    victim = tmp_path / "victim.txt"
    victim.write_text("mine")

    def change(meta):
        meta["observers"]["Checkpoints 1"] = {
            "scores": [[9.0, "../../victim.txt"], [8.0, "../../victim.txt"]]
        }

    rewritten(newest(interrupted), change)
    observers = [vs.observers.Checkpoints("best", keep=1)]
    training().run(data().batches(8), epochs=4, resume=interrupted, observers=observers)
    assert victim.read_text() == "mine"
    assert (interrupted / "states" / "step-00000005-epoch-1.refused").exists()


@pytest.mark.parametrize(
    ("change", "text"),
    [
        (lambda m: m["position"].update(step=-1), "position.step"),
        (lambda m: m["position"].update(epoch="1"), "position.epoch"),
        (lambda m: m.pop("curves"), "curves"),
        (lambda m: m.update(curves={"a": 1}), "curves"),
        (lambda m: m.update(more=1), "more"),
        (lambda m: m["parts"][""].update(updates=10**30), "updates"),
        (lambda m: m["curves"].append({"epoch": 1}), "curves"),
    ],
)
def test_what_a_checkpoint_says_is_checked_before_it_is_believed(interrupted, change, text):
    for old in sorted((interrupted / "states").glob("step-*.npz"))[:-1]:
        old.unlink()
    rewritten(newest(interrupted), change)
    with pytest.raises(ArchiveError, match=f"refused: .*{text}"):
        training().run(data().batches(8), epochs=4, resume=interrupted)


BOMB = """
import io, json, resource, sys, zipfile, hashlib
import numpy as np
import vinestep as vs
from vinestep.storage import archive
kind, file = sys.argv[1:]
header = lambda shape: b"\\x93NUMPY\\x01\\x00" + (118).to_bytes(2, "little") + repr(
    {"descr": "<f8", "fortran_order": False, "shape": shape}).encode().ljust(117) + b"\\n"
members = {"a.npy": header((2,)) + bytes(16), "contents.json": b'{"format": 1}'}
compression = zipfile.ZIP_STORED
if kind == "deflated":
    members["a.npy"], compression = header((1 << 26,)) + bytes(8 << 26), zipfile.ZIP_DEFLATED
elif kind == "shape":
    members["a.npy"] = header((1 << 50,)) + bytes(16)
elif kind == "nested":
    members["contents.json"] = b"[" * 5_000_000 + b"]" * 5_000_000
elif kind == "many":
    members |= {f"x{i}.npy": b"" for i in range(40_000)}
elif kind == "list":
    members["contents.json"] = b"[1, 2]"
buffer = io.BytesIO()
with zipfile.ZipFile(buffer, "w", compression) as packed:
    for name, content in members.items():
        packed.writestr(name, content)
    packed.comment = b"0" * 64
body = bytearray(buffer.getvalue()[:-64])
if kind == "encrypted":
    for at in range(len(body) - 4):
        if body[at:at + 4] == b"PK\\x01\\x02":
            body[at + 8] |= 1
        if body[at:at + 4] == b"PK\\x03\\x04":
            body[at + 6] |= 1
with open(file, "wb") as out:
    out.write(bytes(body) + hashlib.sha256(bytes(body)).hexdigest().encode())
size = len(body)
del members, buffer, body
from vinestep.storage import archive
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
try:
    archive.read(file)
    print("read")
except vs.errors.ArchiveError as error:
    print("refused", (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10, error)
"""


@pytest.mark.parametrize("kind", ["deflated", "shape", "nested", "many", "list", "encrypted"])
def test_bombs_are_refused_in_bounded_memory(tmp_path, kind):
    done = subprocess.run(
        [sys.executable, "-c", BOMB, kind, str(tmp_path / "x.npz")],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-500:]
    assert done.stdout.startswith("refused"), done.stdout
    assert int(done.stdout.split()[1]) < 150


@pytest.mark.parametrize("dtype", [np.complex128, np.bool_, "M8[s]", "U4"])
def test_weights_are_real_numbers_in_files_too(tmp_path, dtype):
    with pytest.raises(ArchiveError, match="real numbers only"):
        archive.write(tmp_path / "x.npz", {"a": np.zeros(3).astype(dtype)}, {})
    assert not list(tmp_path.iterdir())


def test_writing_takes_little_memory(tmp_path):
    code = """
    import resource, sys, numpy as np
    from vinestep.storage import archive
    archive.write(sys.argv[1] + "/small.npz", {"a": np.ones(10)}, {})
    arrays = {"a": np.ones(6_000_000), "b": np.ones((1000, 6000), order="F")}
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    file = archive.write(sys.argv[1] + "/large.npz", arrays, {})
    print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) >> 10)
    """
    done = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(code), str(tmp_path)],
        capture_output=True,
        text=True,
        check=True,
    )
    assert (
        int(done.stdout) < 70
    )  # megabytes, for a file of 96 of them; half of it is one array laid out in another order


@pytest.mark.parametrize(
    ("options", "batches", "names"),
    [
        ({"optimiser": vs.optimisers.Adam(0.02)}, {}, ["optimiser.rate"]),
        ({"schedule": vs.schedules.cosine(9)}, {}, ["schedule.kind"]),
        ({"clip": 2.0}, {}, ["clip"]),
        ({"loss": lambda o, t: vs.losses.cross_entropy(o, t)}, {}, ["loss"]),
        ({"activation": np.tanh}, {}, ["network.layers.1"]),
        ({"activation": lambda x: x * 1}, {}, ["network.layers.1"]),
        ({"width": 5}, {}, ["network.layers.0.width"]),
        ({"metrics": [vs.metrics.accuracy]}, {}, ["metrics"]),
        ({"seed": 4}, {}, ["seed"]),
        ({}, {"size": 12}, ["batches.size"]),
        ({}, {"shuffled": False}, ["batches.shuffled"]),
        ({}, {"scale": 2.0}, ["data"]),
        ({}, {"seed": 1}, ["data"]),
    ],
)
def test_what_differs_on_resuming_is_refused_with_a_list(interrupted, options, batches, names):
    part = data(seed=batches.get("seed", 0), scale=batches.get("scale", 1.0))
    given = part.batches(batches.get("size", 8), shuffled=batches.get("shuffled", True))
    options = {
        key: type(value)(value.rate) if key == "optimiser" else value
        for key, value in options.items()
    }
    with pytest.raises(RunError, match="set up differently") as refused:
        training(**options).run(given, epochs=4, resume=interrupted)
    assert all(f"\n  {name}" in str(refused.value) for name in names), str(refused.value)


def test_precision_is_part_of_it(interrupted):
    other = training()
    other.network.initialise(data().inputs, seed=3, dtype=np.float64)
    with pytest.raises(RunError, match="precision: float32 before, float64 now"):
        other.run(data().batches(8), epochs=4, resume=interrupted)


def test_what_is_meant_to_differ_is_named_and_recorded(interrupted):
    other = training(optimiser=vs.optimisers.Adam(0.02), clip=1.0)
    outcome = other.run(
        data().batches(8), epochs=4, resume=interrupted, changed=["optimiser.rate", "clip"]
    )
    assert outcome.status is Status.FINISHED
    assert outcome.rows[-1]["rate"] == 0.02
    assert vs.runs.RunFolder(interrupted).read_status()["changes"] == [
        "clip: nothing before, 1.0 now",
        "optimiser.rate: 0.01 before, 0.02 now",
    ]
    assert (
        "Continued with changes: clip: nothing before, 1.0 now"
        in (interrupted / "console.txt").read_text()
    )


def test_a_name_that_did_not_change_is_refused(interrupted):
    with pytest.raises(RunError, match="'clip' was named as changed, and is not"):
        training().run(data().batches(8), epochs=4, resume=interrupted, changed=["clip"])


def test_functions_are_told_apart_by_what_they_do():
    def make(factor):
        return lambda x: x * factor

    twice, again, thrice = (describe(make(factor), opaque=True) for factor in (2.0, 2.0, 3.0))
    assert twice == again != thrice
    assert describe(lambda x: x + 1, opaque=True) != describe(lambda x: x - 1, opaque=True)
    assert differences({"a": [1, {"b": 2}]}, {"a": [1, {"b": 3}]}) == {"a.1.b": "2 before, 3 now"}


def test_the_folder_is_whole_when_it_is_visible(tmp_path, monkeypatch):
    seen = []
    rename = os.rename

    def watched(source, target):
        if str(target).endswith("run-1"):
            seen.append(sorted(str(p.relative_to(source)) for p in Path(source).rglob("*")))
        return rename(source, target)

    monkeypatch.setattr(folders.os, "rename", watched)
    training().run(data().batches(8), epochs=1, record=tmp_path)
    assert {"plan.toml", "run.json", "states/step-00000000-epoch-0.npz"} <= set(seen[0])


def test_numbers_do_not_repeat_when_runs_start_together(tmp_path):
    def make(_):
        with vs.runs.RunFolder.new(tmp_path, "x") as folder:
            folder.begin("x", {})
        return folder.number

    with ThreadPoolExecutor(16) as pool:
        assert sorted(pool.map(make, range(100))) == list(range(1, 101))
    shutil.rmtree(tmp_path / "x-100")
    assert make(0) == 101


def test_what_was_killed_before_it_was_visible_is_cleared_away(tmp_path):
    left = tmp_path / ".run-1.new"
    (left / "states").mkdir(parents=True)
    training().run(data().batches(8), epochs=1, record=tmp_path)
    assert not left.exists()


HOLD = """
import sys, time, vinestep as vs
with vs.runs.RunFolder.open(sys.argv[1]).held():
    print("held", flush=True)
    time.sleep(60)
"""


def test_a_run_is_in_the_hands_of_one_process(interrupted):
    info = json.loads((interrupted / "run.json").read_text()) | {"status": "running"}
    (interrupted / "run.json").write_text(json.dumps(info))
    assert vs.runs.RunFolder(interrupted).read_status()["status"] == "interrupted"
    holder = subprocess.Popen(
        [sys.executable, "-c", HOLD, str(interrupted)], stdout=subprocess.PIPE, text=True
    )
    assert holder.stdout.readline() == "held\n"
    assert vs.runs.RunFolder(interrupted).read_status()["status"] == "running"
    with pytest.raises(RunError, match="still running in another process"):
        training().run(data().batches(8), epochs=4, resume=interrupted)
    holder.kill()
    holder.wait()
    training().run(data().batches(8), epochs=4, resume=interrupted)


def test_two_that_resume_at_once(interrupted):
    outcomes = []

    def go(_):
        try:
            outcomes.append(
                training().run(data().batches(8), epochs=400, resume=interrupted).status
            )
        except RunError as error:
            outcomes.append(str(error))

    with ThreadPoolExecutor(4) as pool:
        list(pool.map(go, range(4)))
    assert outcomes.count(Status.FINISHED) == 1
    assert all(
        "running" in str(o) or "finished" in str(o) for o in outcomes if o is not Status.FINISHED
    )


def test_half_written_files_are_cleared_away(interrupted):
    for place in (interrupted, interrupted / "states"):
        (place / ".curves.csv.abc.part").write_bytes(bytes(1000))
    training().run(data().batches(8), epochs=4, resume=interrupted)
    assert not list(interrupted.rglob("*.part"))


@pytest.mark.parametrize(
    "content", ["", "{", "[]", '{"status": 3}', "null", '{"status": "running", "last": []}']
)
def test_a_damaged_run_json_spoils_nothing(interrupted, content):
    training().run(data().batches(8), epochs=1, record=interrupted.parent)
    (interrupted / "run.json").write_text(content)
    table = vs.runs.runs_table(interrupted.parent)
    assert table["status"].tolist() == ["unreadable", "finished"]
    outcome = training().run(data().batches(8), epochs=4, resume=interrupted)
    assert outcome.status is Status.FINISHED


class Remove(vs.observers.Observer):
    def after_epoch(self, run, row):
        if row["epoch"] == 2:
            shutil.rmtree(run.folder)


def test_a_folder_that_is_removed_does_not_come_back(tmp_path):
    with pytest.raises((RunError, ArchiveError), match=r"gone|could not be written"):
        training().run(data().batches(8), epochs=9, record=tmp_path, observers=[Remove()])
    assert not (tmp_path / "run-1").exists()


def test_a_live_run_shows_how_far_it_is(tmp_path):
    class Look(vs.observers.Observer):
        seen = 0

        def after_epoch(self, run, row):
            time.sleep(0.15)
            self.seen = json.loads((run.folder / "run.json").read_text())["epoch"]

    look = Look()
    training().run(data().batches(8), epochs=9, record=tmp_path, observers=[look])
    assert look.seen > 2


def test_files_hold_no_infinity(tmp_path):
    odd = vs.metrics.Metric(
        "odd", lambda o, t: np.array([0.0, 1.0]), lambda c: float("nan"), better="higher"
    )
    outcome = training(metrics=[odd]).run(
        data().batches(8), epochs=2, record=tmp_path, observers=[vs.observers.Patience(9, by="odd")]
    )
    json.loads(
        (outcome.folder / "run.json").read_text(), parse_constant=lambda name: pytest.fail(name)
    )
    with zipfile.ZipFile(newest(outcome.folder)) as packed:
        json.loads(packed.read(archive.META), parse_constant=lambda name: pytest.fail(name))
    assert np.isnan(outcome.rows[0]["odd"])


LIMITED = """
import resource, sys, signal
import numpy as np
import vinestep as vs
from vinestep.storage import archive
from vinestep.cli import main
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[1]), int(sys.argv[1])))
sys.argv = ["vinestep", "demo", "--record", sys.argv[2]]
main()
"""


@pytest.mark.parametrize("limit", [100, 3_000, 30_000])
def test_a_full_disk_is_told_in_a_few_lines(tmp_path, limit):
    """No file can grow beyond a size, as on a disk that is full."""
    done = subprocess.run(
        [sys.executable, "-c", LIMITED, str(limit), str(tmp_path)],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 2, done.stderr[-800:]
    assert "Traceback" not in done.stderr
    assert "could not be written" in done.stderr or "cannot be made" in done.stderr
    assert len(done.stderr.splitlines()) < 8
    assert not list(tmp_path.rglob("*.part"))
