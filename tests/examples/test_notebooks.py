"""The example notebooks run from top to bottom, and show what they are to show."""

import shutil
from pathlib import Path

import nbformat
import pytest
from nbclient import NotebookClient

PLACE = Path(__file__).parents[2] / "examples" / "notebooks"
SHOWN = {
    "first_network": [
        "<progress",
        "<polyline",
        "finished",
        "probability sound",
        "validation_accuracy",
    ],
    "comparing_runs": [
        "What the record says",
        "optimiser.rate",
        "rate too high",
        "image/png",
        "Model of",
    ],
}


@pytest.mark.parametrize("name", SHOWN)
def test_a_notebook_runs(tmp_path, name):
    shutil.copy(PLACE / f"{name}.ipynb", tmp_path)
    notebook = nbformat.read(tmp_path / f"{name}.ipynb", as_version=4)
    assert not any(cell.get("outputs") for cell in notebook.cells), "outputs are not committed"
    NotebookClient(notebook, timeout=120, resources={"metadata": {"path": str(tmp_path)}}).execute()
    written = nbformat.writes(notebook)
    for text in SHOWN[name]:
        assert text in written, text


def test_every_notebook_is_run():
    assert {path.stem for path in PLACE.glob("*.ipynb")} == set(SHOWN)
