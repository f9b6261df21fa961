"""Write the files of one version, which later versions have to open: python write_files.py
FOLDER.
"""

import contextlib
import json
import sys
from pathlib import Path

import numpy as np

import vinestep as vs

PLAN = """
name = "barrels"
seed = 3
epochs = 3
metrics = ["accuracy"]

[data]
source = "barrels.csv"
target = "state"
stratified = true

[[layers]]
kind = "dense"
width = 8
activation = "relu"

[[layers]]
kind = "dropout"
probability = 0.1

[[layers]]
kind = "dense"
width = "classes"

[optimiser]
kind = "adam"
rate = 0.01
weight_decay = 0.01

[[schedule]]
kind = "warmup"
steps = 3

[[schedule]]
kind = "cosine"
steps = 30

[[observers]]
kind = "checkpoints"
every = 2
"""


class StopAt(vs.observers.Observer):
    """Asks a run to stop after a step, to go on some other time."""

    def __init__(self, step):
        self.step = step

    def after_step(self, run, step):
        if run.position.step == self.step:
            run.stop("stopped to be continued", resumable=True)


def training_of_barrels(barrels):
    table = vs.data.Table(barrels, target="state")
    train, validation, _ = vs.data.scaled(*table.split(0.6, 0.2, 0.2, seed=1, stratified=True))
    training = vs.Training(
        vs.Stack(vs.Dense(8, vs.relu), vs.BatchNorm(), vs.Dropout(0.2), vs.Dense(table.classes)),
        loss=vs.losses.cross_entropy,
        metrics=[vs.metrics.accuracy],
        optimiser=vs.optimisers.SGD(0.05, momentum=0.9),
        average=vs.WeightAverage(0.9),
        clip=2.0,
        seed=2,
    )
    return training, train.batches(16), validation.batches(30)


def parts_of_points():
    points = np.random.default_rng(0).normal(size=(64, 2)).astype(np.float32)
    line = vs.Descent(
        vs.Stack(vs.Dense(4, np.tanh), vs.Dense(1)).initialise(points[:1], seed=1), seed=1
    )
    return points, {"line": line, "noise": vs.RandomStream(3)}


def step_of_points(points, line, noise):
    chosen = points[noise.rng.integers(0, 64, 8)]
    return line.step(lambda: np.mean((line.network(chosen)[:, 0] - chosen.sum(axis=1)) ** 2)).loss


def write(folder):
    folder.mkdir(parents=True)
    records = folder / "records"
    barrels = vs.demo.barrels(100)
    barrels.to_csv(folder / "barrels.csv", index=False)
    (folder / "plan.toml").write_text(PLAN)
    expected = {}

    from vinestep.cli import main

    sys.argv = ["vinestep", "train", str(folder / "plan.toml"), "--record", str(records)]
    with contextlib.suppress(SystemExit):
        main()

    training, train, validation = training_of_barrels(barrels)
    training.run(
        train, validation=validation, epochs=3, name="python", record=records, observers=[StopAt(6)]
    )
    points, parts = parts_of_points()
    with vs.recorded_run(parts, steps=12, name="points", record=records) as run:
        for number in run.steps():
            run.numbers(loss=step_of_points(points, **parts))
            if number == 7:
                run.stop("stopped to be continued", resumable=True)

    rows = barrels[:12].drop(columns="state")
    model = vs.open_model(next(records.glob("barrels-1/*.vine")))
    expected["barrels"] = (
        model.predict(rows, beside=False).filter(like="probability").to_numpy().tolist()
    )

    texts = vs.demo.notes(60).texts
    tokeniser = vs.data.WordTokeniser.learned(texts)
    documents = vs.data.Documents(texts, tokeniser, length=24)
    writer = vs.Training(
        vs.networks.LanguageModel(len(tokeniser), width=8, depth=1, heads=2),
        loss=vs.losses.next_token,
        seed=1,
    )
    writer.run(documents.batches(4), epochs=1)
    writer.model().save(folder / "notes.vine")
    expected["notes"] = vs.generate(
        vs.open_model(folder / "notes.vine").network,
        " ".join(texts[0].split()[:2]),
        tokeniser=tokeniser,
        most=8,
    ).text

    leaves = vs.demo.leaves(24)
    data = vs.data.Dataset(leaves.pictures, leaves.labels, class_values=leaves.names)
    seeing = vs.Training(
        vs.Stack(vs.Convolution(4, 3, activation=vs.relu), vs.GlobalMean(), vs.Dense(6)),
        loss=vs.losses.cross_entropy,
        seed=1,
    )
    seeing.run(data.batches(8), epochs=1)
    seeing.model().save(folder / "leaves.vine")
    expected["leaves"] = vs.open_model(folder / "leaves.vine").outputs(leaves.pictures[:3]).tolist()
    (folder / "expected.json").write_text(json.dumps(expected))


if __name__ == "__main__":
    write(Path(sys.argv[1]))
