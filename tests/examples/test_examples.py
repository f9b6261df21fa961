import io
import os
import runpy
import subprocess
import sys
from contextlib import chdir, redirect_stdout
from pathlib import Path

import pytest

EXAMPLES = Path(__file__).parents[2] / "examples"
SCRIPTS = sorted(path.name for path in EXAMPLES.glob("*.py"))


def run(script, *arguments, cwd, monkeypatch):
    """In this process, where the library is imported and its kernels are loaded."""
    monkeypatch.setattr(sys, "argv", [script, *arguments])
    told = io.StringIO()
    with chdir(cwd), redirect_stdout(told):
        runpy.run_path(str(EXAMPLES / script), run_name="__main__")
    return told.getvalue()


SMALL = {
    "leaves.py": ("160", "2"),
    "ferments.py": ("200", "8"),
    "picture_folder.py": ("160", "2"),
    "sequences.py": ("300", "2"),
    "stream.py": ("150",),
    "new_head.py": ("160", "2"),
    "plateau.py": ("400", "30"),
    "accumulated.py": ("120", "3"),
    "notes_model.py": ("300", "1", "32"),
    "shorthand.py": ("200", "1", "32"),
    "chalk.py": ("32", "1", "16"),
    "adapters.py": ("128", "1", "32", "1", "100"),
    "casks.py": ("300", "12", "2"),
    "leaf_spots.py": ("80", "2"),
    "made_leaves.py": ("90", "1"),
    "leaf_pairs.py": ("90", "1"),
    "odd_leaves.py": ("200", "1"),
    "made_barrels.py": ("300", "4"),
    "eight_kinds.py": ("1", "1"),
}


def _first_network(told, folder):
    """It learns, and draws what it decides."""
    assert float(told.split("never seen: ")[1].split()[0]) > 0.95
    assert (folder / "parcels.png").read_bytes().startswith(b"\x89PNG")


def _by_hand(told, folder):
    assert float(told.split("accuracy ")[1]) > 0.95


def _ferment_fit(told, folder):
    """It finds what the data was made with."""
    for line in told.splitlines()[-3:]:
        value, sure, true = (
            float(line.split(mark)[1].split()[0].rstrip(")"))
            for mark in (":", "+-", "made up with")
        )
        assert abs(value - true) < 3 * sure


def _ferments(told, folder):
    """The recurrent network beats guessing the mean."""
    lines = dict(line.split(": ") for line in told.splitlines()[-3:])
    assert float(lines["hours, network"]) < 0.6 * float(lines["hours, guessing the mean"])


def _casks(told, folder):
    """Scores of both targets, intervals that hold, and what mattered."""
    held = int(told.split("alcohol of ")[1].split("%")[0])
    assert 65 <= held <= 100
    for name in ("state_accuracy", "alcohol_absolute_error", "temperature"):
        assert name in told
    assert (folder / "casks" / "map.png").read_bytes().startswith(b"\x89PNG")


PROMISES = {
    "casks.py": _casks,
    "first_network.py": _first_network,
    "by_hand.py": _by_hand,
    "ferment_fit.py": _ferment_fit,
    "ferments.py": _ferments,
}


@pytest.mark.parametrize("script", SCRIPTS)
def test_every_example_runs_and_does_what_it_promises(script, tmp_path, monkeypatch):
    told = run(script, *SMALL.get(script, ()), cwd=tmp_path, monkeypatch=monkeypatch)
    assert told
    if script in PROMISES:
        PROMISES[script](told, tmp_path)


def test_an_example_runs_as_a_reader_starts_it(tmp_path):
    command = [sys.executable, EXAMPLES / "by_hand.py"]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, env=os.environ)
    assert done.returncode == 0, done.stderr
    _by_hand(done.stdout, tmp_path)
