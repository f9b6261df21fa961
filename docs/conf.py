"""The documentation site: `make docs`. It needs no network, neither to be built nor to be read."""

import importlib
import inspect
import shutil
from pathlib import Path

import vinestep as vs

HERE = Path(__file__).parent
EXAMPLES = HERE.parent / "examples"

project = "Vine Step"
author = "the developers of Vine Step"
project_copyright = f"2026, {author}"
release = version = vs.__version__

extensions = [
    "sphinx.ext.autodoc",
    "sphinx.ext.autosummary",
    "sphinx.ext.viewcode",
    "numpydoc",
    "myst_nb",
]
exclude_patterns = ["_build"]
html_theme = "furo"
html_title = f"Vine Step {release}"
html_static_path = []
templates_path = []
pygments_style = "friendly"
default_role = "any"

nb_execution_mode = "cache"
nb_execution_in_temp = True
nb_execution_timeout = 300
nb_execution_raise_on_error = True
myst_heading_anchors = 4
myst_links_external_new_tab = False

autosummary_generate = True
autodoc_typehints = "none"
autodoc_member_order = "bysource"
numpydoc_show_class_members = False
numpydoc_class_members_toctree = False
suppress_warnings = ["myst.xref_missing", "ref.any", "misc.highlighting_failure"]

PUBLIC = {
    "vinestep": "The names of everyday: tensors, derivatives, layers, training",
    "vinestep.data": "Sources, splits, batches, tables, texts",
    "vinestep.data.pictures": "Transforms and augmentations of pictures",
    "vinestep.data.sequences": "Transforms along time",
    "vinestep.layers": "What is done with layers: adapters, quantised weights, matching",
    "vinestep.networks": "Ready networks",
    "vinestep.losses": "Losses",
    "vinestep.tasks": "Tasks: what outputs mean",
    "vinestep.attribution": "What mattered",
    "vinestep.evaluation": "Scores and their intervals",
    "vinestep.evaluation.metrics": "Metrics, also ``vs.metrics``",
    "vinestep.initialisers": "Initialisers",
    "vinestep.optimisers": "Optimisers",
    "vinestep.schedules": "Learning-rate schedules",
    "vinestep.training": "Records of steps and runs, rehearsal, tuning, profile",
    "vinestep.training.observers": "Observers, also ``vs.observers``",
    "vinestep.runs": "The record of runs",
    "vinestep.catalogue": "The best models, by name and version",
    "vinestep.generation": "Texts generated token by token",
    "vinestep.figures": "Figures",
    "vinestep.parts": "Parts as plain data, and back",
    "vinestep.demo": "Made-up data",
    "vinestep.errors": "Refusals",
}


def _reference_page(module: str, about: str) -> str:
    """A page with a table of the public names of a module, each with a page of its own."""
    names = [
        name
        for name in importlib.import_module(module).__all__
        if not inspect.ismodule(getattr(importlib.import_module(module), name))
    ]
    listed = "\n".join(f"   {name}" for name in names)
    return (
        f"{module}\n{'=' * len(module)}\n\n{about}.\n\n.. currentmodule:: {module}\n\n"
        f".. autosummary::\n   :toctree: generated/\n   :nosignatures:\n\n{listed}\n"
    )


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    if not path.exists() or path.read_text() != text:
        path.write_text(text)


def _write_pages() -> None:
    """Pages that follow from the source: the reference, and every example."""
    for module, about in PUBLIC.items():
        _write(HERE / "api" / f"{module}.rst", _reference_page(module, about))
    for script in sorted(EXAMPLES.glob("*.py")):
        title = script.stem.replace("_", " ").capitalize()
        text = f"{title}\n{'=' * len(title)}\n\n.. literalinclude:: ../../examples/{script.name}\n"
        _write(HERE / "examples" / f"{script.stem}.rst", text)
    for notebook in sorted((EXAMPLES / "notebooks").glob("*.ipynb")):
        shutil.copyfile(notebook, HERE / "examples" / f"notebook_{notebook.name}")


_write_pages()
