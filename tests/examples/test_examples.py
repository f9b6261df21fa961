import os
import subprocess
import sys
from pathlib import Path

import pytest

EXAMPLES = Path(__file__).parents[2] / "examples"
SCRIPTS = sorted(path.name for path in EXAMPLES.glob("*.py"))


def run(script, *arguments, cwd):
    return subprocess.run(
        [sys.executable, EXAMPLES / script, *arguments],
        cwd=cwd,
        capture_output=True,
        text=True,
        env=os.environ,
    )


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
}


@pytest.mark.parametrize("script", SCRIPTS)
def test_every_example_runs(script, tmp_path):
    done = run(script, *SMALL.get(script, ()), cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert done.stdout


def test_first_network_learns_and_draws(tmp_path):
    done = run("first_network.py", cwd=tmp_path)
    accuracy = float(done.stdout.split("never seen: ")[1].split()[0])
    assert accuracy > 0.95
    assert (tmp_path / "parcels.png").read_bytes().startswith(b"\x89PNG")


def test_by_hand_learns(tmp_path):
    assert float(run("by_hand.py", cwd=tmp_path).stdout.split("accuracy ")[1]) > 0.95


def test_ferment_fit_finds_what_the_data_was_made_with(tmp_path):
    lines = run("ferment_fit.py", cwd=tmp_path).stdout.splitlines()[-3:]
    for line in lines:
        value, sure, true = (
            float(line.split(mark)[1].split()[0].rstrip(")"))
            for mark in (":", "+-", "made up with")
        )
        assert abs(value - true) < 3 * sure


def test_the_recurrent_network_beats_guessing_the_mean(tmp_path):
    lines = dict(
        line.split(": ")
        for line in run("ferments.py", "200", "8", cwd=tmp_path).stdout.splitlines()[-3:]
    )
    assert float(lines["hours, network"]) < 0.6 * float(lines["hours, guessing the mean"])
