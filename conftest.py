"""For all tests, docstring examples included: the names that examples may use, files in memory,
curves that are not drawn anew for each run.
"""

import os
import tempfile
import time

import hypothesis
import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.training.observers._plot_worker import PlotWorker

MEMORY = "/dev/shm"  # files in memory: a run makes its states last, which a disk takes long for
if "TMPDIR" not in os.environ and os.path.isdir(MEMORY) and os.access(MEMORY, os.W_OK):
    os.environ["TMPDIR"] = tempfile.tempdir = f"{MEMORY}/vinestep-tests-{os.getuid()}"
    os.makedirs(tempfile.tempdir, exist_ok=True)


@pytest.fixture(autouse=True)
def _doctest_names(doctest_namespace):
    names = {name: getattr(vs, name) for name in vs.__all__}
    doctest_namespace.update(names, np=np, pd=pd, vs=vs)


@pytest.fixture(autouse=True)
def _kinds_as_they_were(request):
    """Examples in the registry itself define parts that would count as the library's."""
    if request.node.path.name != "_registry.py":
        yield
        return
    from vinestep.parts import _registry

    before = {name: list(found) for name, found in _registry.library().items()}
    yield
    _registry._LIBRARY.clear()
    _registry._LIBRARY.update(before)


@pytest.fixture
def rng():
    """A generator of its own for each test."""
    return np.random.default_rng(20261123)


PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d4948445200000001000000010800000000"
    "3a7e9b550000000a49444154789c636000000002000148afa4710000000049454e44ae426082"
)


class _DrawnBefore:
    """In place of the process that draws the curves of a recorded run, which takes longer than most
    runs of the tests.
    """

    def ask(self, rows, title, better):
        return 0

    def is_drawn(self, ticket):
        return True

    def drawn(self, ticket):
        return PNG


_shared = PlotWorker.shared


@pytest.fixture(autouse=True, scope="session")
def _curves_drawn_before():
    PlotWorker.shared = staticmethod(_DrawnBefore)
    yield
    PlotWorker.shared = _shared


@pytest.fixture(autouse=True)
def _curves_drawn(request, monkeypatch):
    """Tests that are marked `draws` draw."""
    if request.node.get_closest_marker("draws") or request.node.path.name == "_plot_worker.py":
        monkeypatch.setattr(PlotWorker, "shared", staticmethod(_shared))


# how long an example takes says more of the machine's other work than of the code
hypothesis.settings.register_profile("no deadline", deadline=None)
hypothesis.settings.load_profile("no deadline")


def pytest_addoption(parser):
    """For quick checks."""
    parser.addoption(
        "--within",
        type=float,
        default=None,
        metavar="SECONDS",
        help="leave out tests that have not begun by then",
    )


_BEGUN = time.monotonic()


def pytest_runtest_setup(item):
    """Leave out what would make a quick check a slow one."""
    seconds = item.config.getoption("--within")
    if seconds is not None and time.monotonic() - _BEGUN > seconds:
        pytest.skip(f"not begun within {seconds:g} s")
