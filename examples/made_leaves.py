"""A diffusion network that makes pictures of vine leaves, of the condition that is asked for.

Run it: python examples/made_leaves.py [number of pictures] [epochs] [folder for the pictures]
"""

import sys
from pathlib import Path

import numpy as np
from PIL import Image

import vinestep as vs


def classifier(train, names, epochs):
    """A network that tells conditions apart: its features say how like leaves are."""
    training = vs.Training(
        vs.networks.convolutional_classifier(len(names), channels=(16, 32, 48)),
        task=vs.tasks.Classes(),
        optimiser=vs.optimisers.Adam(3e-3),
        seed=1,
    )
    training.run(train.batches(32), epochs=epochs)
    return training.model().network


def main(n: int = 1200, epochs: int = 70, folder: str = "made_leaves") -> dict[str, float]:
    leaves = vs.demo.leaves(n)
    pictures = (leaves.pictures * 2 - 1).astype(np.float32)  # from -1 to 1
    data = vs.data.Dataset(pictures, leaves.labels, class_values=leaves.names)
    train, validation = data.split(0.85, 0.15, seed=0, stratified=True)
    judge = classifier(train, leaves.names, max(2, epochs // 5))

    network = vs.generation.Diffusion(
        vs.networks.UShaped(3, channels=(16, 32, 64, 64), attention=4, conditioned=True),
        classes=len(leaves.names),
        deviation=float(pictures.std()),
        predicts="clean",
        weight=5.0,
    )
    steps = epochs * len(train.batches(32))
    training = vs.Training(
        network,
        task=vs.tasks.Generative(),
        optimiser=vs.optimisers.Adam(2e-3),
        schedule=vs.schedules.warmup(min(100, steps)).then(vs.schedules.cosine(max(1, steps))),
        average=vs.WeightAverage(0.99),
        clip=1.0,
        seed=0,
    )
    scores = vs.generation.SampleScores(
        validation,
        train,
        count=max(12, min(96, len(validation))),
        features=lambda x: judge.outputs_of("12", x),  # after the mean over places
        labels=range(len(leaves.names)),
        steps=20,
    )
    training.initialise(train.batches(32).sample())
    first = scores(network)
    training.run(
        train.batches(32),
        validation=validation.batches(90),
        validate_every=5,
        epochs=epochs,
        observers=[vs.observers.Progress()],
    )
    model = training.model()
    last = scores(model.network)
    print(vs.generation.sample_finding(last, first))
    print(f"feature distance: {first['feature_distance']:.1f}, then {last['feature_distance']:.2f}")

    place = Path(folder)
    place.mkdir(exist_ok=True)
    names = [name for name in leaves.names for _ in range(6)]
    made = model.sample(len(names), seed=1, label=names, steps=min(50, 10 * epochs))
    grid = vs.figures.picture_grid((made + 1) / 2, columns=6)
    Image.fromarray(grid).resize((grid.shape[1] * 3, grid.shape[0] * 3), 0).save(
        place / "by_condition.png"
    )
    train_pictures = train.take(np.arange(len(train))).inputs
    nearest, _ = vs.generation.nearest_neighbours(train_pictures, made[::2])
    beside = vs.figures.nearest_pictures((made[::2] + 1) / 2, (train_pictures[nearest] + 1) / 2)
    vs.figures.save(beside, place / "nearest.png")
    print(f"pictures in {place}: by_condition.png, nearest.png")
    return {name: round(value, 3) for name, value in last.items()}


if __name__ == "__main__":
    main(*map(int, sys.argv[1:3]), *sys.argv[3:4])
