"""A record that cannot be written: a disk without a byte left, a folder that may only be read."""

import os
import shutil
import subprocess
import sys
import textwrap

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import RunError

from ..command_line import vinestep_here
from ..postgres import missing

SIZE = 8  # megabytes of the disk


def recorded(root):
    data = vs.data.Dataset(np.ones((8, 200), np.float32), np.zeros((8, 1)))
    for _ in range(2):
        network = vs.Stack(vs.Dense(200), vs.Dense(1))
        training = vs.Training(network, loss=vs.losses.squared_error)
        training.run(data.batches(4), epochs=2, record=root)
    runs = vs.runs.open(root)
    vs.catalogue.keep(runs["run-1"], "barrels")
    runs["run-1"].tag(["oak"])
    runs.ledger.close()
    return root


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    return recorded(tmp_path_factory.mktemp("kept") / "records")


ON_A_FULL_DISK = """
set -e
mount -t tmpfs -o size={size}m none {place}
cp -r {kept} {place}/records
cat /dev/zero > {place}/filler 2> /dev/null || true
exec {python} {script}
"""


def on_a_full_disk(kept, tmp_path, code):
    """What a script prints in a folder with a copy of the record and not one byte left."""
    place = tmp_path / "disk"
    place.mkdir()
    script = tmp_path / "script.py"
    head = f"import os, sys\nfrom vinestep.cli import main\nos.chdir({str(place)!r})\n"
    script.write_text(head + textwrap.dedent(code))
    shell = ON_A_FULL_DISK.format(
        size=SIZE, place=place, kept=kept, python=sys.executable, script=script
    )
    done = subprocess.run(
        ["unshare", "-rm", "bash", "-c", shell], capture_output=True, text=True, check=False
    )
    if "unshare" in done.stderr or "mount:" in done.stderr:
        missing("a system that lets a test mount a disk of its own")
    return done


COMMAND = """
def command(*arguments):
    sys.argv = ["vinestep", *arguments]
    try:
        main()
    except SystemExit as end:
        print(f"{arguments[0]}: ended with {end.code}", flush=True)
"""


def test_a_full_disk_is_named_and_the_record_can_still_be_looked_at(kept, tmp_path):
    code = COMMAND + textwrap.dedent(
        """
        for arguments in (["runs"], ["show", "run-1"], ["models"], ["compare", "1", "2"]):
            command(*arguments)
        command("keep", "run-2", "--as", "more")
        command("tag", "run-1", "sour")
        command("note", "run-1", "sour")
        """
    )
    done = on_a_full_disk(kept, tmp_path, code)
    assert "Traceback" not in done.stderr, done.stderr
    ends = [line for line in done.stdout.splitlines() if "ended with" in line]
    codes = {line.split(":")[0]: line.split()[-1] for line in ends}
    looked = ("runs", "show", "models", "compare")
    assert [codes.get(name, "0") in ("0", "None") for name in looked] == [True] * 4, done.stderr
    assert [codes[name] for name in ("keep", "tag", "note")] == ["2"] * 3
    assert "oak" in done.stdout
    assert "barrels" in done.stdout
    told = " ".join(done.stderr.split())
    assert "is full, 0 bytes are left. Make room there: vinestep remove RUN" in told
    assert "No space left on device" in told or "could not be written" in told


def test_removing_a_run_makes_room_on_a_full_disk(kept, tmp_path):
    code = COMMAND + textwrap.dedent(
        """
        command("remove", "run-2", "--yes")
        command("runs")
        command("keep", "run-1", "--as", "more")
        print("folders:", *sorted(n for n in os.listdir("records") if n.startswith("run")))
        """
    )
    done = on_a_full_disk(kept, tmp_path, code)
    assert "Traceback" not in done.stderr, done.stderr
    assert "folders: run-1\n" in done.stdout, (done.stdout, done.stderr)
    listed = done.stdout.rpartition("folders")[0]
    assert "run-2 " not in listed.partition("remove: ended")[2]


@pytest.fixture
def read_only(tmp_path, monkeypatch):
    """Said to be so by `os.access`: who runs the tests may be root, who may write everywhere."""
    root, reached = recorded(tmp_path / "records"), os.access

    def access(path, how):
        denied = how & os.W_OK and os.path.abspath(path) == str(root)
        return not denied and reached(path, how)

    monkeypatch.setattr(os, "access", access)
    return root


def test_what_would_be_lost_in_a_folder_that_may_only_be_read_is_refused(read_only):
    runs = vs.runs.open(read_only)
    assert runs.table()["run"].tolist() == ["run-1", "run-2"]
    assert vs.catalogue.models(runs)["model"].tolist() == ["barrels"]
    assert vs.catalogue.load("barrels", place=runs).predict(np.ones((2, 200))).shape == (2, 1)
    for change in (
        lambda: vs.catalogue.keep(runs["run-2"], "more"),
        lambda: vs.catalogue.mark_in_use(runs, "barrels", 1),
    ):
        with pytest.raises(RunError, match=r"may only be read.* nothing can be changed there"):
            change()
    refused = vinestep_here("keep", "run-2", "--as", "more", cwd=read_only.parent)
    assert refused.returncode == 2
    assert "may only be read" in " ".join(refused.stderr.split())
    elsewhere = vs.runs.open(read_only, ledger=f"sqlite:///{read_only.parent / 'own.sqlite'}")
    assert vs.catalogue.keep(elsewhere["run-2"], "more").version == 1


def test_a_run_that_only_a_ledger_knows_is_not_changed_in_a_copy_of_it(read_only):
    shutil.rmtree(read_only / "run-2")
    run = vs.runs.open(read_only)["run-2"]
    for change in (lambda: run.tag(["sour"]), lambda: run.note("sour"), run.remove):
        with pytest.raises(RunError, match="may only be read"):
            change()
