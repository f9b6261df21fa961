"""Every part of the library described as plain data and built again, and descriptions that are
refused.
"""

import contextlib
import functools
import inspect
import json
import tomllib

import numpy as np
import pytest
import tomli_w
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.data.pictures._transforms import Flip, Shift
from vinestep.errors import PartError
from vinestep.parts._describe import settings_of
from vinestep.parts._registry import Kinds, library
from vinestep.parts._setting_docs import settings as meanings
from vinestep.storage.settings import without_none

UNLIKE = (
    vs.data.Template
    | vs.data.PairBatch
    | vs.data.TokenBatch
    | vs.data.Padded
    | vs.data.InOrder
    | vs.data.Shuffled
    | vs.tasks.Task
    | vs.tasks.Temperature
    | vs.tasks.Isotonic
    | vs.tasks.Conformal
    | vs.generation.NoiseSchedule
)  # equal if their settings are
SETTINGS = {
    "width": 3,
    "channels": 4,
    "window": 2,
    "heads": 2,
    "groups": 2,
    "factor": 2,
    "probability": 0.2,
    "deviation": 0.5,
    "count": 5,
    "tokens": 7,
    "outputs": 2,
    "source_tokens": 6,
    "target_tokens": 8,
    "shape": [2, -1],
    "rate": 0.02,
    "every": 4,
    "steps": 9,
    "epochs": 3,
    "value": 0.5,
    "k": 2,
    "path": "0",
    "size": 2,
    "length": 3,
    "pixels": 1,
    "degrees": 10.0,
    "classes": 3,
    "mean": 0.4,
    "text": "{entry}: {sentence}",
    "target": "sugar",
    "metric": vs.metrics.accuracy,
    "function": np.tanh,
    "over": 1,
    "beta": 2.0,
    "level": 0.2,
    "bins": 5,
    "temperature": 1.5,
    "coverage": 0.8,
}
LISTED = {
    "schedule": [vs.schedules.warmup(3), vs.schedules.cosine(5)],
    "transform": [Flip(), Shift(2)],
    "pipeline": [vs.Stack(vs.Dense(2)), vs.Dense(3)],
}
OTHER = {
    ("dense", "activation"): vs.relu,
    ("residual", "body"): vs.Dense(2),
    ("recomputed", "body"): vs.Dense(2),
    ("spectral_norm", "layer"): vs.Dense(2),
    ("time_embedding", "width"): 4,
    ("diffusion", "width"): 4,
    **{(kind, "body"): vs.Dense(2) for kind in ("diffusion", "critic", "latent_generator")},
    **{
        (f"{kind}autoencoder", side): vs.Dense(2)
        for kind in ("", "variational_", "quantised_")
        for side in ("encoder", "decoder")
    },
    ("variational_autoencoder", "latent"): 3,
    ("residual", "shortcut"): vs.Dense(2),
    ("sgd", "momentum"): 0.5,
    ("schedule", "factor"): np.cos,
    ("upsample", "factor"): 3,
    ("step_decay", "factor"): 0.3,
    ("exponential", "factor"): 0.3,
    ("plateau", "factor"): 0.3,
    ("by_epoch", "schedule"): vs.schedules.cosine(4),
    ("heads", "body"): vs.Dense(2),
    ("multi_input", "branches"): {"must": vs.Dense(3), "cellar": np.tanh},
    ("multi_input", "head"): vs.Dense(2),
    ("ensemble", "task"): vs.tasks.Counts(),
    ("conformal", "quantiles"): [1.0, 2.0],
    ("isotonic", "steps"): [[[0.0, 1.0], [0.2, 0.8]]],
    ("heads", "heads"): {"state": vs.Dense(3), "sugar": vs.Dense(1)},
    ("several", "tasks"): {"state": vs.tasks.Ordered(gaps=True), "sugar": vs.tasks.Counts()},
}


def made(kind):
    """A part of a kind, with its settings away from their defaults where that is known."""
    if kind.form == "object":
        return kind.target
    if kind.form == "function":
        changed = {
            p.name: p.default * 2 + 0.1 for p in settings_of(kind) if isinstance(p.default, float)
        }
        return functools.partial(kind.target, **changed) if changed else kind.target
    listed, given_values = [], {}
    for p in settings_of(kind):
        if p.kind is inspect.Parameter.VAR_POSITIONAL:
            listed = LISTED.get(kind.name, LISTED.get(kind.family, [vs.Dense(2), vs.relu]))
        elif (kind.name, p.name) in OTHER:
            given_values[p.name] = OTHER[kind.name, p.name]
        elif p.default is inspect.Parameter.empty or (
            p.name in SETTINGS and isinstance(p.default, int | float)
        ):
            given_values[p.name] = SETTINGS[p.name]
    return kind.target(*listed, **given_values)


def same(a, b):
    """Equal in what they are and do, looked at part by part."""
    if isinstance(a, functools.partial):
        return a.func is b.func and a.keywords == b.keywords
    if isinstance(a, vs.metrics.Metric):
        return a.name == b.name and a.better == b.better
    if isinstance(a, vs.schedules.Schedule):
        for schedule in (a, b):
            schedule.begin(5)
        return a.steps == b.steps and [a(i) for i in range(40)] == [b(i) for i in range(40)]
    if isinstance(a, dict):
        return list(a) == list(b) and all(same(a[name], b[name]) for name in a)
    if isinstance(a, list | tuple):
        return len(a) == len(b) and all(map(same, a, b))
    if isinstance(
        a, vs.Layer | vs.optimisers.Optimiser | vs.observers.Observer | vs.data.Transform | UNLIKE
    ):
        names = {name for name in vars(a) if not name.startswith("_")}
        return (
            type(a) is type(b)
            and names == {n for n in vars(b) if not n.startswith("_")}
            and all(same(vars(a)[n], vars(b)[n]) for n in names)
        )
    if inspect.isfunction(a) and "<locals>" in a.__qualname__:
        return np.array_equal(
            a(np.random.default_rng(0), (3, 4)), b(np.random.default_rng(0), (3, 4))
        )
    return a is b or a == b


ALL = [
    kind for kind in vs.parts.kinds() if kind.family not in ("source", "tokeniser")
]  # which read files: test_sources.py


@pytest.mark.parametrize("kind", ALL, ids=lambda kind: f"{kind.family}.{kind.name}")
def test_every_part_is_built_again_from_its_description(kind):
    part = made(kind)
    described = vs.parts.describe(part)
    again = vs.parts.build(json.loads(json.dumps(described)))
    assert same(part, again)
    assert vs.parts.describe(again) == described
    toml = tomllib.loads(tomli_w.dumps(without_none({"part": described})))["part"]
    assert same(part, vs.parts.build(toml))


@pytest.mark.parametrize("kind", ALL, ids=lambda kind: f"{kind.family}.{kind.name}")
def test_every_setting_is_known_and_an_unknown_one_refused(kind):
    described = vs.parts.describe(made(kind))
    assert [s.name for s in meanings(kind)] == [p.name for p in settings_of(kind)]
    with pytest.raises(PartError, match=r"no_such: unknown setting"):
        vs.parts.build({**described, "no_such": 1})


def test_no_kind_is_registered_twice_in_a_family():
    for name, group in library().items():
        assert len({kind.family for kind in group}) == len(group), name


def test_a_layer_in_several_places_stays_one():
    shared = vs.Dense(3)
    network = vs.parts.build(
        vs.parts.describe(vs.Stack(shared, vs.relu, vs.Residual(shared), shared))
    )
    assert network[0] is network[2].body is network[3]
    assert len(network.initialise(np.ones((1, 3))).parameters()) == 2


@vs.parts.part("doubled")
class Doubled(vs.Layer):
    def __init__(self, factor=2.0):
        self.factor = factor

    def compute(self, x):
        return x * self.factor


@vs.parts.part("forgetful")
class Forgetful(vs.Layer):
    def __init__(self, factor):
        self.other = factor


def test_own_parts_are_handed_over():
    described = vs.parts.describe(vs.Stack(Doubled(3.0)))
    assert described == {"kind": "stack", "layers": [{"kind": "doubled", "factor": 3.0}]}
    assert vs.parts.build(described, own=[Doubled])[0].factor == 3.0
    with pytest.raises(PartError, match="'doubled' is not known"):
        vs.parts.build(described)
    with pytest.raises(PartError, match="one of the library's"):
        vs.parts.part("dense")(type("Mine", (vs.Layer,), {}))
    with pytest.raises(PartError, match="Unmarked has no kind"):
        vs.parts.build(described, own=[type("Unmarked", (vs.Layer,), {})])


class Inherits(Doubled):
    pass


@pytest.mark.parametrize(
    ("part", "message"),
    [
        (lambda: vs.Stack(vs.Dense(2), lambda x: x), r"layers.1: .*<lambda> has no kind"),
        (lambda: Forgetful(2.0), r"takes an argument 'factor' and does not keep it"),
        (lambda: Inherits(), "Inherits has no kind"),
        (lambda: functools.partial(max, 3), "partial has no kind"),
    ],
)
def test_what_cannot_be_described_is_refused(part, message):
    with pytest.raises(PartError, match=message):
        vs.parts.describe(part())


@pytest.mark.parametrize(
    ("description", "message"),
    [
        ({"kind": "dense", "widht": 3}, "widht: unknown setting of dense. Did you mean 'width'"),
        ({"kind": "dense", "width": "3"}, "width: input should be a valid integer"),
        ({"kind": "dense", "width": True}, "width: input should be a valid integer"),
        ({"kind": "dense", "width": 0}, "the part|dense: Dense: width must be"),
        ({"kind": "densee", "width": 3}, "'densee' is not known. Did you mean 'dense'"),
        (
            {"kind": "dense", "width": 3, "activation": "adam"},
            "activation.kind: 'adam' is of the family optimiser",
        ),
        (
            {"kind": "dense", "width": 3, "activation": {"kind": "elu", "alpha": "x"}},
            "activation.alpha: ",
        ),
        ({"kind": "stack", "layers": "dense"}, "layers: has to be a list"),
        ({"kind": "stack", "layers": [7]}, "layers.0: "),
        ({"kind": "same", "label": "x"}, "no part before it has the label"),
        ({"kind": "own", "name": "a.b"}, "a.b has no kind"),
        ({"width": 3}, "kind: missing"),
        ("constant", "may be initialiser.constant or schedule.constant"),
        (7, "a part is a kind with its settings"),
        ({"kind": "numpy.os", "x": 1}, "'numpy.os' is not known"),
        ({"kind": "numpy.load"}, "'numpy.load' is not known"),
    ],
)
def test_a_wrong_description_is_explained(description, message):
    with pytest.raises(PartError, match=message):
        vs.parts.build(description)


def test_all_faults_are_told_at_once():
    with pytest.raises(PartError) as told:
        vs.parts.build(
            {
                "kind": "stack",
                "layers": [{"kind": "dense"}, {"kind": "dropout", "probability": 2.0}, "nothing"],
            }
        )
    assert [line.partition(":")[0] for line in str(told.value).splitlines()] == [
        "layers.0.width",
        "layers.1",
        "layers.2.kind",
    ]


def test_nesting_without_end_is_refused():
    deep = {"kind": "residual", "body": "relu"}
    for _ in range(5000):
        deep = {"kind": "residual", "body": deep}
    with pytest.raises(PartError, match="nested more than"):
        vs.parts.build(deep)


WORDS = st.sampled_from(
    [
        "kind",
        "width",
        "layers",
        "label",
        "dense",
        "stack",
        "same",
        "own",
        "relu",
        "",
        "a.b",
        "numpy.sin",
        "schedule",
    ]
)
TREES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | WORDS,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(WORDS, inner, max_size=4),
    max_leaves=12,
)


@settings(max_examples=300, deadline=None)
@given(TREES)
def test_whatever_is_given_is_built_or_refused_in_words(tree):
    with contextlib.suppress(PartError):
        vs.parts.build(tree)


def test_kinds_that_share_a_word_are_found_by_family():
    assert Kinds().find("cosine", ("loss",)).target is vs.losses.cosine
    assert vs.parts.describe(vs.losses.cosine) == {"kind": "loss.cosine"}
    assert vs.parts.build("cosine", family="loss") is vs.losses.cosine
