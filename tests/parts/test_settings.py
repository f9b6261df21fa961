"""Settings of a wrong kind or out of range are refused by the library's own error."""

import inspect

import pytest

import vinestep as vs
from vinestep.errors import VineStepError
from vinestep.parts._registry import kinds

FAMILIES = ("optimiser", "schedule", "observer", "order", "transform", "join", "initialiser")
HOSTILE = ["x", None, -1, 0, float("nan"), float("inf"), [], object(), True, (1, 2)]
FITTING = {"schedule": vs.schedules.constant(), "factor": 0.5, "rate": 0.1, "quantity": "loss"}
KINDS = [kind for family in FAMILIES for kind in kinds(family) if kind.form in ("class", "maker")]


def attempt(make, settings):
    """Whether they were taken; anything but a refusal of ours is raised."""
    try:
        make(**settings)
    except VineStepError:
        return False
    return True


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: f"{kind.family}.{kind.name}")
def test_each_setting_is_taken_or_refused_in_words(kind):
    named = (inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.KEYWORD_ONLY)
    parameters = [p for p in inspect.signature(kind.target).parameters.values() if p.kind in named]
    usual = {p.name: FITTING.get(p.name, 2) for p in parameters if p.default is p.empty}
    for parameter in parameters:
        for value in HOSTILE:
            attempt(kind.target, usual | {parameter.name: value})
    if usual:
        assert not attempt(kind.target, {})  # what is missing is refused too


def test_the_refusal_names_part_and_setting():
    with pytest.raises(vs.errors.SettingError, match=r"Patience\(epochs='x'\): a setting is of"):
        vs.observers.Patience(epochs="x")
