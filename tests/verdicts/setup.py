"""A set-up, and all that is said of it before and after it is run."""

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import vinestep as vs
from vinestep.errors import NotFiniteError


@dataclass
class SetUp:
    """What is trained on what."""

    training: Any
    train: Any
    validation: Any
    epochs: int
    observers: Sequence[Any] = field(default_factory=list)


def said_of(setup: SetUp) -> list[Any]:
    """The findings of a rehearsal, and of the record of the run."""
    found = list(setup.training.rehearse(setup.train, setup.validation).findings)
    with tempfile.TemporaryDirectory() as folder:
        try:
            setup.training.run(
                setup.train,
                validation=setup.validation,
                epochs=setup.epochs,
                record=folder,
                observers=[
                    vs.observers.Steps(5),
                    vs.observers.Norms(10),
                    vs.observers.Distributions(40),
                    vs.observers.Samples(),
                    vs.observers.Machine(),
                    *setup.observers,
                ],
            )
        except NotFiniteError:
            pass
        except vs.errors.VineStepError:
            if not any(one.verdict == "wrong" for one in found):
                raise
            return found
        for run in vs.runs.open(folder):
            found += run.diagnose()
    return found


def of_table(frame, target, seed, **options):
    """A table, scaled and divided; see `of_parts`."""
    reading = {
        name: options.pop(name)
        for name in ("classes", "leave_out", "rare", "weight", "target_gaps", "log_target")
        if name in options
    }
    share = options.pop("split", 0.2)
    table = vs.data.Table(frame, target=target, **reading)
    stratified = bool(table.class_values)
    parts = table.split(1 - share, share, seed=seed, stratified=stratified)
    return of_parts(*vs.data.scaled(*parts), seed=seed, **options)


def of_parts(
    train,
    validation,
    *,
    seed,
    layers=None,
    hidden=(32,),
    task=None,
    rate=3e-3,
    optimiser=None,
    epochs=25,
    batch=32,
    patience=6,
    batches=None,
    scored=None,
    **options,
):
    """Parts of some data, and a network of dense layers if no other is given."""
    task = task or vs.tasks.task_for(train)
    if layers is None:
        width = train.classes or 1
        layers = vs.Stack([*(vs.Dense(n, vs.relu) for n in hidden), vs.Dense(width)])
    training = vs.Training(
        layers,
        task=task,
        optimiser=optimiser or vs.optimisers.Adam(rate),
        seed=seed,
        **options,
    )
    return SetUp(
        training,
        train.batches(batch, seed=seed, **(batches or {})),
        validation.batches(256, **({"shuffled": False} | (scored or {}))),
        epochs,
        [vs.observers.Patience(patience)] if patience else [],
    )
