"""Made-up barrels with the statistics of real ones: a diffusion network of a table of numbers,
categories and gaps.

Run it: python examples/made_barrels.py [number of rows] [epochs] [folder for table and figure]
"""

import sys
from pathlib import Path

import numpy as np

import vinestep as vs


def main(n: int = 3000, epochs: int = 300, folder: str = "made_barrels") -> dict[str, float]:
    barrels = vs.demo.barrels(n)
    table = vs.data.Table(barrels, target="state")
    train, validation = vs.data.scaled(*table.split(0.8, 0.2, seed=0, stratified=True))
    width = train.inputs.shape[1]
    network = vs.generation.Diffusion(
        vs.layers.ConditionedDense(width, width=128, depth=3, fourier_features=4),
        classes=train.classes,
        noise=vs.generation.Straight(),
        predicts="flow",
    )
    steps = epochs * len(train.batches(256))
    training = vs.Training(
        network,
        task=vs.tasks.Generative(),
        optimiser=vs.optimisers.Adam(2e-3),
        schedule=vs.schedules.cosine(steps),
        average=vs.WeightAverage(0.995),
        seed=0,
    )
    training.run(
        train.batches(256),
        validation=validation.batches(600),
        validate_every=10,
        epochs=epochs,
        observers=[vs.observers.Progress()],
    )
    model = training.model()
    states = barrels["state"].sample(len(barrels), replace=True, random_state=0).tolist()
    made = model.sample(len(states), seed=1, label=states, steps=100, how="ancestral")
    made["state"] = states

    numbers = [name for name in made if made[name].dtype.kind == "f"]
    correlations = [frame[numbers].corr().to_numpy() for frame in (barrels, made)]
    middles = (made[numbers].mean() - barrels[numbers].mean()).abs() / barrels[numbers].std()
    spreads = made[numbers].std() / barrels[numbers].std()
    result = {
        "largest difference of correlations": np.abs(np.subtract(*correlations)).max(),
        "largest shift of a mean, in deviations": middles.max(),
        "smallest ratio of deviations": spreads.min(),
        "largest ratio of deviations": spreads.max(),
    }
    result = {name: round(float(value), 3) for name, value in result.items()}
    for name, value in result.items():
        print(f"{name}: {value}")

    # a network trained on made rows alone, scored on real ones it has not seen
    real, held_out = table.split(0.8, 0.2, seed=0, stratified=True)
    for name, rows in (("real", real), ("made", table.like(made).split(0.8, 0.2, seed=0)[0])):
        parts = vs.data.scaled(rows, held_out)
        told = vs.Training(
            vs.networks.dense_classifier(3),
            task=vs.tasks.Classes(),
            optimiser=vs.optimisers.Adam(3e-3),
            seed=0,
        )
        told.run(parts[0].batches(64), epochs=min(30, epochs))
        accuracy = round(told.assess(parts[1].batches(600))["accuracy"], 3)
        result[f"accuracy after {name} rows"] = accuracy
        print(f"accuracy on real rows, trained on {name} ones: {accuracy}")

    place = Path(folder)
    place.mkdir(exist_ok=True)
    made.to_csv(place / "barrels.csv", index=False)
    figure = vs.figures.marginals(barrels, made, title="Barrels: the demo's, and made ones")
    vs.figures.save(figure, place / "margins.png")
    print(f"{place}: barrels.csv, margins.png")
    return result


if __name__ == "__main__":
    main(*map(int, sys.argv[1:3]), *sys.argv[3:4])
