"""The rooms of the source, the arrows between them, and what their names promise.

The graph is drawn from the syntax trees, imports inside functions and for types counted. A new
arrow between rooms is a decision: it is entered in `ARROWS`, or the test fails.
"""

import ast
import re
import types
from collections import defaultdict
from graphlib import CycleError, TopologicalSorter
from importlib import import_module
from pathlib import Path

import pytest

import vinestep as vs
from vinestep.errors import VineStepError

SOURCE = Path(vs.__file__).parent
GROUND = "_arguments _findings _notebook_html _ownership _public_names _trend errors"
ARROWS = {
    "_findings": "_notebook_html _public_names",
    "_notebook_html": "",
    "_ownership": "errors",
    "_public_names": "errors",
    "_trend": "",
    "_atomic_files": "",
    "_lazy_imports": "",
    "errors": "",
    "_arguments": "errors",
    "kernels/machinery": "errors",
    "kernels": "kernels/machinery",
    "kernels/loops": "kernels/machinery",
    "storage": "_arguments _atomic_files errors",
    "autodiff": "kernels kernels/machinery _findings _public_names errors",
    "autodiff/rules": "autodiff kernels errors",
    "parts": "autodiff _public_names errors",
    "data": "_arguments _lazy_imports errors",
    "data/batches": "parts data _arguments _rows errors",
    "data/encoding": "data data/batches parts _atomic_files _lazy_imports _findings _public_names "
    "errors",
    "data/sources": "data data/batches data/encoding parts _public_names _arguments errors",
    "data/pictures": "data data/batches data/sources parts _findings _public_names errors",
    "data/sequences": "data/batches data/sources parts errors",
    "data/tabular": "data data/batches data/encoding data/sources parts _public_names "
    "_lazy_imports _findings errors",
    "data/text": "data data/batches data/encoding data/pictures data/sources parts _public_names "
    "errors",
    "data/checks": "data/batches data/encoding data/sources data/tabular _lazy_imports _findings "
    "errors",
    "distributed": "data/batches errors",
    "demo": "data/encoding data/sources parts _arguments errors",
    "_activations": "autodiff autodiff/rules kernels kernels/machinery parts _public_names",
    "initialisers": "parts _public_names",
    "losses": "autodiff kernels kernels/machinery parts _activations _findings "
    "_public_names _arguments _masking _alignment errors",
    "_loss_reduction": "autodiff losses errors",
    "schedules": "parts _public_names errors",
    "optimisers": "autodiff kernels kernels/machinery parts _ownership _public_names errors",
    "evaluation/metrics": "autodiff parts errors",
    "tasks": "autodiff evaluation/metrics losses parts _activations _masking _alignment errors",
    "evaluation": "data/batches evaluation/metrics tasks autodiff _loss_reduction "
    "_public_names errors",
    "layers": "distributed autodiff autodiff/rules kernels kernels/machinery parts storage "
    "_activations initialisers _notebook_html _ownership _public_names "
    "_arguments _masking _rows errors",
    "networks": "autodiff layers parts _activations _public_names errors",
    "generation": "autodiff data/batches data/encoding data/sources kernels/machinery layers parts "
    "schedules evaluation/metrics _activations _arguments _findings errors",
    "_model": "autodiff data data/encoding evaluation generation layers parts storage "
    "data/batches evaluation/metrics tasks _findings _notebook_html "
    "_public_names _model_inputs _arguments _ensemble errors",
    "figures": "_atomic_files _trend errors",
    "_model_inputs": "data/batches data/encoding data/pictures data/sources _arguments errors",
    "_masking": "autodiff",
    "_rows": "",
    "_ensemble": "autodiff errors layers parts tasks",
    "attribution": "_model autodiff data data/batches data/sources data/tabular figures layers "
    "optimisers tasks training/step _arguments _atomic_files errors",
    "_alignment": "_activations autodiff",
    "training/step": "distributed autodiff data/batches data/encoding data/sources evaluation "
    "kernels "
    "layers losses optimisers schedules storage evaluation/metrics parts "
    "tasks _loss_reduction _model _ownership _arguments _masking _rows errors",
    "training/run": "distributed training/step data/batches _model autodiff figures "
    "kernels/machinery layers parts storage tasks _findings _notebook_html _public_names errors",
    "training/observers": "distributed training/run training/step attribution autodiff figures "
    "parts storage data/batches data/encoding generation tasks _notebook_html errors",
    "training/rehearsal": "distributed training/run training/step autodiff data/batches "
    "data/checks data/encoding "
    "data/sources evaluation layers losses optimisers schedules storage "
    "tasks _findings _model errors",
    "training": "distributed training/step training/run training/observers training/rehearsal "
    "_activations autodiff data/batches data/checks data/sources evaluation "
    "evaluation/metrics figures generation losses parts schedules tasks "
    "layers storage optimisers _findings _model errors",
    "training/plans": "distributed training training/step training/run training/observers "
    "training/rehearsal autodiff data/batches data/sources data/tabular "
    "demo evaluation generation layers parts tasks data _model _public_names errors",
    "training/tuning": "distributed training/plans training/run training/step data/batches "
    "data/sources figures optimisers schedules storage data data/tabular _arguments "
    "errors",
    "runs/diagnosis": "generation _findings _trend",
    "runs": "runs/diagnosis training/plans training/run training/step training/tuning attribution "
    "evaluation figures storage _model "
    "_findings _notebook_html _public_names _arguments errors",
    "runs/migrations": "runs",
    "catalogue": "runs storage _model _public_names errors",
    "page": "runs runs/diagnosis catalogue _trend errors",
    "cli": "distributed attribution page runs catalogue training/observers training/plans "
    "training/run "
    "training/step training/tuning data data/checks data/pictures "
    "data/sources data/tabular data/text evaluation figures generation "
    "layers parts storage data/encoding _findings _model _public_names "
    "_model_inputs errors",
    "__main__": "cli",
}
"""Of each room, or module of the top level, those it may import."""

INTERNAL = ("autodiff", "cli", "kernels", "page", "storage")
"""Rooms of which nothing is public: their files need no underscore."""


def _module(path):
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


MODULES = {_module(path): path for path in sorted(SOURCE.rglob("*.py"))}
TREES = {name: ast.parse(path.read_bytes()) for name, path in MODULES.items()}


def _is_facade(name):
    """Whether a file shows the names of its room, rather than computing something."""
    return MODULES[name].name == "__init__.py" and name != "vinestep.kernels"


def _imported(name):
    """The modules of the library that a file imports, anywhere in it, with the names it takes."""
    package = name if MODULES[name].name == "__init__.py" else name.rpartition(".")[0]
    for node in ast.walk(TREES[name]):
        if isinstance(node, ast.ImportFrom):
            base = package.split(".")[: len(package.split(".")) - node.level + 1]
            module = ".".join([*base, node.module or ""]).strip(".") if node.level else node.module
            for alias in node.names:
                whole = f"{module}.{alias.name}"
                yield (whole if whole in MODULES else module), alias.name
        elif isinstance(node, ast.Import):
            for alias in node.names:
                yield alias.name, ""


GRAPH = {
    name: {found for found, _ in _imported(name) if found in MODULES and found != name}
    for name in MODULES
    if not _is_facade(name)
}


def _room(name):
    folder = MODULES[name].parent.relative_to(SOURCE).as_posix()
    return name.removeprefix("vinestep.") if folder == "." else folder.removesuffix("/versions")


def test_no_file_imports_itself_by_a_circle():
    try:
        TopologicalSorter(GRAPH).prepare()
    except CycleError as error:
        pytest.fail(" -> ".join(error.args[1]))


def test_the_allowed_arrows_make_no_circle():
    TopologicalSorter({room: allowed.split() for room, allowed in ARROWS.items()}).prepare()


def test_rooms_import_what_the_table_allows_and_nothing_is_allowed_in_vain():
    drawn = defaultdict(set)
    for name, targets in GRAPH.items():
        rooms = {_room(target) for target in targets if not _is_facade(target) or "." in target}
        drawn[_room(name)] |= rooms - {_room(name)}
    allowed = {room: set(names.split()) for room, names in ARROWS.items()}
    assert dict(drawn) == {room: names for room, names in allowed.items() if room in drawn}
    assert {room for room in allowed if room not in drawn} == set()


def test_files_take_names_from_where_they_are_defined():
    """A room's public face is for users: within the library it would hide what depends on what."""
    through = [
        f"{name}: from {module} import {taken}"
        for name in GRAPH
        for module, taken in _imported(name)
        if module in MODULES and _is_facade(module) and module not in ("vinestep", "vinestep.cli")
        and _room(name) not in ("cli", "__main__", "page")
    ]  # fmt: skip
    assert through == []


def test_the_core_imports_no_interface():
    heavy = {"matplotlib", "rich", "typer", "sqlalchemy", "fastapi", "PIL"}
    core = ("autodiff", "kernels", "layers", "optimisers", "parts", "storage", "training")
    for name, tree in TREES.items():
        if name.removeprefix("vinestep.").partition(".")[0] not in core:
            continue
        for node in tree.body:
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            assert not heavy & {one.partition(".")[0] for one in names}, name


def test_internal_files_are_told_from_public_ones():
    for name, path in MODULES.items():
        top = name.removeprefix("vinestep.").partition(".")[0]
        if path.name == "__init__.py" or top in INTERNAL or "migrations" in name:
            continue
        public = not path.stem.startswith("_")
        assert public == (name in PUBLIC), name


def test_every_room_says_what_it_is_for():
    for name, tree in TREES.items():
        if MODULES[name].name == "__init__.py" and "migrations" not in name:
            assert ast.get_docstring(tree), f"{name} has no docstring"


# public names

PUBLIC = [
    "vinestep",
    *(
        f"vinestep.{name}"
        for name in [
            "attribution",
            "catalogue",
            "data",
            "data.pictures",
            "data.sequences",
            "demo",
            "errors",
            "evaluation",
            "evaluation.metrics",
            "figures",
            "generation",
            "initialisers",
            "layers",
            "losses",
            "networks",
            "optimisers",
            "parts",
            "runs",
            "schedules",
            "tasks",
            "training",
            "training.observers",
        ]
    ),
]


def test_every_public_name_has_one_path():
    paths = defaultdict(list)
    for module in map(import_module, PUBLIC):
        for name in module.__all__:
            value = getattr(module, name)
            if not isinstance(value, types.ModuleType):
                paths[id(value)].append(f"{module.__name__}.{name}")
    assert [names for names in paths.values() if len(names) > 1] == []


@pytest.mark.parametrize("name", PUBLIC)
def test_dir_shows_what_is_public(name):
    module = import_module(name)
    assert dir(module) == sorted(module.__all__)


def _is_public(dotted):
    value = vs
    for name in dotted.split(".")[1:]:
        if isinstance(value, types.ModuleType) and name not in getattr(value, "__all__", ()):
            return False
        value = getattr(value, name, None)
    return value is not None


def test_texts_name_only_what_is_public():
    """Messages and docstrings send users to names that they can import."""
    started_by_name = re.compile(r"vinestep\.(kernels|runs\._|training\.observers\._|data\.\w+\._)")
    wrong = []
    for name, tree in TREES.items():
        if "migrations" in name:
            continue
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                for text in re.findall(r"(?<![\w./])vinestep(?:\.[A-Za-z_]\w*)+", node.value):
                    example = f"from {text}" in node.value or f"-m {text}" in node.value
                    if not example and not started_by_name.match(text) and not _is_public(text):
                        wrong.append(f"{name}: {text}")
    assert wrong == [
        "vinestep.page.app: vinestep.page",
        "vinestep.parts._registry: vinestep.object",
    ]


# refusals

OURS = {name for name in dir(vs.errors) if issubclass(getattr(vs.errors, name), VineStepError)}
NOT_REFUSALS = {
    "NotImplementedError": "a method that a subclass has to write",
    "Unsound": "caught within the kernels: definitions run instead",
    "_RefusedError": "caught within the archive, which says what file it was",
    "_WorkerKilledError": "caught within the pool of workers, which tries again",
    "MemoryError": "raised by compiled code, as NumPy does",
    "typer.Exit": "the exit code of a command",
    "HTTPException": "an answer of the page",
}
COMPILED = ("vinestep.kernels.machinery",)


def _functions_of(tree):
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef):
            yield node.name, ast.unparse(node.returns) if node.returns else ""


MAKERS = {name: returns for tree in TREES.values() for name, returns in _functions_of(tree)}


def test_every_deliberate_refusal_derives_from_the_base_class():
    wrong = []
    for name, tree in TREES.items():
        for node in ast.walk(tree):
            if not isinstance(node, ast.Raise) or node.exc is None:
                continue
            raised = ast.unparse(node.exc.func if isinstance(node.exc, ast.Call) else node.exc)
            last = raised.rpartition(".")[2]
            returned = MAKERS.get(last, "").rpartition(".")[2]
            if last in OURS or returned in OURS or raised in NOT_REFUSALS:
                continue
            if name.startswith(COMPILED) or raised in ("value", "error"):  # passed on as it came
                continue
            wrong.append(f"{name}:{node.lineno}: {raised}")
    assert wrong == []
