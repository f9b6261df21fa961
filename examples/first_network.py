"""A first network: which of three intertwined parcels does a vine belong to?

Run it: python examples/first_network.py [folder for the picture]
"""

import sys
from pathlib import Path

import vinestep as vs


def main(folder: str = ".") -> Path:
    table = vs.data.Table(vs.demo.parcels(), target="parcel")
    train, validation, test = table.split(0.7, 0.15, 0.15, seed=1, stratified=True)
    metres = test.inputs.copy()
    train, validation, test = vs.data.scaled(train, validation, test)

    network = vs.Stack(vs.Dense(32), vs.relu, vs.Dense(32), vs.relu, vs.Dense(table.classes))
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(rate=0.01),
        metrics=[vs.metrics.accuracy],
        seed=1,
    )
    print(network.initialise(train.inputs[:1], seed=1).describe(train.inputs[:32]))
    outcome = training.run(train.batches(32), validation=validation.batches(256), epochs=40)
    print(
        outcome.curves[["epoch", "loss", "accuracy", "validation_accuracy"]]
        .iloc[[0, 9, 19, 39]]
        .to_string(index=False)
    )
    scores = training.assess(test.batches(256))
    print(f"Accuracy on vines it has never seen: {scores['accuracy']:.3f}")

    def decide(positions):
        scaled = (positions - table_scaling.centres) / table_scaling.spreads
        return training.outputs(scaled.astype("float32")).argmax(axis=1)

    table_scaling = test.scaling
    figure = vs.figures.decisions(
        decide,
        metres,
        test.targets,
        names=table.class_names,
        axes_names=("metres east of the well", "metres north of the well"),
        title="Which parcel a place is taken to belong to, and the vines of the test part",
    )
    return vs.figures.save(figure, Path(folder) / "parcels.png")


if __name__ == "__main__":
    print(main(*sys.argv[1:]))
