"""The page for contributors is followed: each new kind of thing is one file and one line."""

import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

import vinestep as vs

PAGE = Path(__file__).parents[1] / "docs" / "adding.md"
FILE = re.compile(r"`(src/vinestep/[\w/]+\.(?:py|js))`:\n\n```(?:python|js)\n(.*?)```", re.DOTALL)
LINE = re.compile(r"The line: `([^`]+)` in\s+`(src/vinestep/[\w/]+\.(?:pyi|js))`")
USES = """
import numpy as np, vinestep as vs
from vinestep.parts._registry import library

x = np.arange(8.0)[:, None]
bell = vs.observers.Bell()
training = vs.Training(
    vs.Stack(vs.Scale(), vs.Dense(1)), loss=vs.losses.squared_error,
    metrics=[vs.metrics.mean_size], optimiser=vs.optimisers.Sign(0.01),
)
outcome = training.run(vs.data.Squares(8).batches(4), epochs=2, observers=[bell])
assert bell.rung == 2 and "mean_size" in outcome.curves
assert vs.figures.steps([1.0, 2.0]).get_suptitle() == "steps"
assert {"scale", "sign", "squares", "bell", "mean_size"} <= set(library())
model = training.model()
again = vs.open_model(model.save("model.vine"))
assert again.outputs(x).tobytes() == model.outputs(x).tobytes()
"""

DOCTESTS = """
import doctest, importlib, sys
import numpy as np, vinestep as vs

for module in map(importlib.import_module, sys.argv[1:]):
    assert not doctest.testmod(module, extraglobs={"np": np, "vs": vs}).failed, module
"""


@pytest.fixture(scope="module")
def library(tmp_path_factory):
    """A copy of the library with everything that the page adds."""
    root = tmp_path_factory.mktemp("library")
    shutil.copytree(Path(vs.__file__).parent, root / "src" / "vinestep")
    text = PAGE.read_text()
    files, lines = FILE.findall(text), LINE.findall(text)
    assert len(files) == len(lines) == 7
    for name, content in files:
        assert not (root / name).exists()
        (root / name).write_text(content)
    for line, name in lines:
        with (root / name).open("a") as file:
            file.write(f"{line}\n")
    return root


def _environment(library):
    """Loops of a copy would be compiled anew, so definitions run."""
    return os.environ | {"PYTHONPATH": str(library / "src"), "VINESTEP_KERNELS": "off"}


def test_what_the_page_adds_trains_is_named_in_plans_and_handed_on(library, tmp_path):
    environment = _environment(library)
    command = [sys.executable, "-c", USES]
    done = subprocess.run(
        command, cwd=tmp_path, env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr[-2000:]


def test_the_examples_of_what_the_page_adds_run(library):
    added = [str(library / name) for name, _ in FILE.findall(PAGE.read_text()) if ".py" in name]
    environment = _environment(library)
    modules = [
        str(Path(name).relative_to(library / "src").with_suffix("")).replace("/", ".")
        for name in added
    ]
    done = subprocess.run(
        [sys.executable, "-c", DOCTESTS, *modules],
        env=environment,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout + done.stderr
