"""Every public name says what it is, with an example that runs (the doctests of this test run)."""

import importlib
import inspect
import subprocess
import sys

import pytest

import vinestep as vs

MODULES = {
    **{
        name: f"vinestep.{name}"
        for name in (
            "activations",
            "data",
            "demo",
            "figures",
            "initialisers",
            "layers",
            "losses",
            "metrics",
        )
    },
    **{name: f"vinestep.{name}" for name in ("networks", "optimisers", "runs", "schedules")},
    **{name: f"vinestep.training.{name}" for name in ("observers",)},
}
NAMES = {name: getattr(vs, name) for name in vs.__all__} | {
    f"{short}.{name}": getattr(importlib.import_module(module), name)
    for short, module in MODULES.items()
    for name in importlib.import_module(module).__all__
}
THINGS = {
    name: thing
    for name, thing in NAMES.items()
    if inspect.isclass(thing) or inspect.isfunction(thing)
}


@pytest.mark.parametrize("name", list(THINGS))
def test_docstring_with_example(name):
    text = inspect.getdoc(THINGS[name])
    assert text
    assert ">>>" in text


def test_all_names_exist_and_import_is_light():
    code = (
        "import sys, vinestep; heavy = {'matplotlib', 'pandas', 'rich', 'typer', 'sqlalchemy', "
        "'pydantic', 'numba', 'scipy'};"
        "print(heavy & set(sys.modules)); sys.exit(bool(heavy & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout
    assert all(hasattr(vs, name) for name in vs.__all__)


@pytest.mark.parametrize("room", ["autodiff", "kernels", "layers", "optimisers", "data"])
def test_arrows_point_one_way(room):
    upward = {
        "kernels": ["autodiff", "layers", "training", "figures", "cli", "runs", "data"],
        "autodiff": ["layers", "optimisers", "training", "figures", "cli", "runs", "data"],
        "layers": ["optimisers", "training", "figures", "cli", "runs", "data"],
        "optimisers": ["layers", "training", "figures", "cli", "runs", "data"],
        "data": ["autodiff", "layers", "optimisers", "training", "figures", "cli", "runs"],
    }[room]
    from pathlib import Path

    for file in Path(vs.__file__).with_name(room).rglob("*.py"):
        text = file.read_text()
        for other in upward:
            assert f"from ..{other}" not in text, file
            assert f"from ...{other}" not in text, file
