"""Run with an installed package, away from its source: what it shipped is whole and works."""

import subprocess
import sys
import tempfile
from importlib.metadata import version
from importlib.resources import files

import numpy as np

import vinestep as vs

package = files("vinestep")
assert "site-packages" in str(package), package
assert version("vinestep") == vs.__version__
for name in ("py.typed", "__init__.pyi", "demo/barrels.toml", "page/static", "page/templates"):
    assert package.joinpath(name).exists(), name
assert all(hasattr(vs, name) for name in vs.__all__)

data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
with tempfile.TemporaryDirectory() as folder:
    outcome = training.run(data.batches(4), epochs=2, record=folder)
    assert len(outcome.curves) == 2
    shown = subprocess.run(
        [sys.executable, "-m", "vinestep", "show", "1", "--record", folder],
        capture_output=True,
        text=True,
        check=True,
    )
    assert "run-1" in shown.stdout
print(f"vinestep {vs.__version__} works as it was installed")
