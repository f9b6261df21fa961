"""Whatever of Numba is missing, definitions run, with one warning; in the first process and in one
that finds the cache filled.
"""

import os
import re
import subprocess
import sys
from importlib import import_module, metadata
from pathlib import Path

import pytest

from vinestep.kernels.machinery import numba_internals as internals
from vinestep.kernels.machinery.availability import TESTED
from vinestep.kernels.machinery.numba_internals import NEEDED, missing

STEPS = """
import warnings
import numpy as np
with warnings.catch_warnings(record=True) as told:
    warnings.simplefilter("always")
    import vinestep as vs
    rng = np.random.default_rng(0)
    x = vs.Tensor(rng.normal(size=(300, 40)).astype(np.float32))
    value = np.sum(vs.gelu_tanh(x) ** 2)
    losses = [float(value.array) / float(vs.differentiate(value, x).sum())]
told = [str(w.message) for w in told if issubclass(w.category, vs.errors.KernelsWarning)]
print(round(losses[-1], 4), vs.kernels.usable(), len(told), told)
"""
REMOVE = """
from importlib import import_module
module, name, attribute = {parts!r}
import numba
owner = import_module(module)
if attribute:
    owner = getattr(owner, name)
for own in (owner, *getattr(owner, "__mro__", ())):
    if attribute in vars(own) or (not attribute and name in vars(own)):
        delattr(own, attribute or name)
"""


def parts_of(path):
    parts = path.split(".")
    split = next((k for k, part in enumerate(parts) if part[0].isupper()), len(parts) - 1)
    return ".".join(parts[:split]), parts[split], ".".join(parts[split + 1 :])


def run(code, folder, **environment):
    environment = os.environ | {"NUMBA_CACHE_DIR": str(folder)} | environment
    done = subprocess.run(
        [sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    return done.stdout.split(maxsplit=3)


@pytest.fixture(scope="module")
def filled(tmp_path_factory):
    """A cache in which a sound process has left its work, and what the process computed."""
    folder = tmp_path_factory.mktemp("cache")
    loss, usable, warnings, _ = run(STEPS, folder)
    assert (usable, warnings) == ("True", "0")
    return folder, loss


def test_all_names_are_there():
    assert missing() == []


def test_the_bounds_are_those_of_the_package():
    (asked,) = (asked for asked in metadata.requires("vinestep") if asked.startswith("numba"))
    assert set(asked.removeprefix("numba").split(",")) == set(
        TESTED.removeprefix("numba").split(",")
    )


def test_undocumented_names_are_used_in_one_file_only():
    room = Path(internals.__file__).parents[1]
    for path in room.rglob("*.py"):
        if path.name not in ("numba_internals.py", "availability.py"):
            assert not re.search(
                r"numba\.core|numba\.np|cgutils|\bcontext\.\w", path.read_text()
            ), path


@pytest.mark.parametrize("path", NEEDED)
def test_a_name_that_is_gone_is_missed(path, monkeypatch):
    module, name, attribute = parts_of(path)
    owner = import_module(module)
    owner, name = (getattr(owner, name), attribute) if attribute else (owner, name)
    for one in (owner, *getattr(owner, "__mro__", ())):
        if name in vars(one):
            monkeypatch.delattr(one, name)
    assert path in missing()


OFTEN = (0, len(NEEDED) // 2, len(NEEDED) - 1)
EACH = [
    pytest.param(path, marks=() if i in OFTEN else pytest.mark.slow)
    for i, path in enumerate(NEEDED)
]


@pytest.mark.parametrize("path", EACH)
def test_without_a_name_definitions_run(path, filled, tmp_path):
    """The empty folder stands for the first process, the filled one for the second."""
    cache, loss = filled
    for folder in (tmp_path, cache):
        found, usable, warnings, text = run(REMOVE.format(parts=parts_of(path)) + STEPS, folder)
        assert (usable, warnings) == ("False", "1"), text
        assert abs(float(found) - float(loss)) < 1e-3
        assert "pip install 'numba>=" in text


@pytest.mark.parametrize("package", ["numba", "llvmlite"])
def test_without_a_package_definitions_run(package, filled, tmp_path):
    code = f"import sys; sys.modules[{package!r}] = None\n" + STEPS
    found, usable, warnings, _ = run(code, tmp_path)
    assert (usable, warnings) == ("False", "1")
    assert abs(float(found) - float(filled[1])) < 1e-3


UNSOUND = {
    "hooks of the cache are not run": "import numba.core.compiler as c\nf = "
    "c.CompileResult._rebuild\n"
    "c.CompileResult._rebuild = classmethod(lambda cls, *a: f(*a[:-2], (), *a[-1:]))\n",
    "compiling fails": "import numba.core.registry as r\n"
    "def fail(self, sig): raise NotImplementedError('changed')\nr.CPUDispatcher.compile = fail\n",
}


@pytest.mark.parametrize("way", UNSOUND)
def test_what_behaves_differently_does_not_crash(way, filled, tmp_path):
    cache, loss = filled
    for folder in (tmp_path, tmp_path, cache):
        found, _, warnings, _ = run(UNSOUND[way] + STEPS, folder)
        assert abs(float(found) - float(loss)) < 1e-3
        assert int(warnings) <= 1


def test_a_self_test_that_crashes_turns_loops_off(filled, tmp_path):
    """In the child process too, as a version would that differs."""
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "sitecustomize.py").write_text(
        "import sys\nif any('self_test' in a for a in sys.orig_argv):\n    import os, signal; "
        "os.kill(os.getpid(), signal.SIGSEGV)\n"
    )
    found, usable, warnings, text = run(
        STEPS, tmp_path / "cache", PYTHONPATH=str(tmp_path / "site")
    )
    assert (usable, warnings) == ("False", "1")
    assert "self-test" in text
    assert abs(float(found) - float(filled[1])) < 1e-3
