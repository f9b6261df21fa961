"""Every public name says what it is, with an example that runs (the doctests of this test run)."""

import importlib
import inspect
import subprocess
import sys

import pytest

import vinestep as vs

from .test_architecture import PUBLIC

NAMES = {
    f"{module.removeprefix('vinestep').lstrip('.')}.{name}".lstrip("."): value
    for module in PUBLIC
    for name in importlib.import_module(module).__all__
    if not inspect.ismodule(value := getattr(importlib.import_module(module), name))
}
THINGS = {
    name: thing
    for name, thing in NAMES.items()
    if (inspect.isclass(thing) and not issubclass(thing, Exception)) or inspect.isfunction(thing)
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
