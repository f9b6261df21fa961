"""A generator and a critic of vine leaves: an adversarial pair with the hinge loss, spectral
normalisation and a minibatch deviation.

Run it: python examples/leaf_pairs.py [number of pictures] [epochs] [folder for the pictures]
"""

import sys
from pathlib import Path

import numpy as np
from PIL import Image

import vinestep as vs

Bounded, Convolution = vs.generation.SpectralNorm, vs.Convolution


def pair(latent=64):
    generator = vs.generation.LatentGenerator(
        vs.Stack(
            vs.Dense(4 * 4 * 64),
            vs.Reshape((4, 4, 64)),
            *(
                layer
                for width in (48, 32, 16)
                for layer in (vs.Upsample(2), Convolution(width, 3), vs.BatchNorm(), vs.relu)
            ),
            Convolution(3, 3),
            np.tanh,
        ),
        latent=latent,
    )
    critic = vs.generation.Critic(
        vs.Stack(
            *(
                layer
                for width in (16, 32, 64)
                for layer in (Bounded(Convolution(width, 4, stride=2)), vs.leaky_relu)
            ),
            vs.generation.MinibatchDeviation(),
            Bounded(Convolution(64, 3)),
            vs.leaky_relu,
            vs.Flatten(),
        )
    )
    return generator, critic


def main(n: int = 1200, epochs: int = 120, folder: str = "leaf_pairs") -> dict[str, float]:
    leaves = vs.demo.leaves(n)
    data = vs.data.Dataset((leaves.pictures * 2 - 1).astype(np.float32))
    train, validation = data.split(0.85, 0.15, seed=0)
    training = vs.AdversarialTraining(
        *pair(),
        loss="hinge",
        critic_steps=1,
        optimiser=vs.optimisers.Adam(2e-4, beta1=0.5),
        critic_optimiser=vs.optimisers.Adam(2e-4, beta1=0.5),
        average=vs.WeightAverage(0.99),
        seed=0,
    )
    training.initialise(train.batches(32).sample())
    scores = vs.generation.SampleScores(validation, train, count=96)
    first = scores(training.generator)
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
    place = Path(folder)
    place.mkdir(exist_ok=True)
    grid = vs.figures.picture_grid((model.sample(36, seed=1) + 1) / 2)
    Image.fromarray(grid).resize((grid.shape[1] * 3, grid.shape[0] * 3), 0).save(place / "made.png")
    print(f"distance: {first['distance']:.3f}, then {last['distance']:.3f}; {place / 'made.png'}")
    return {name: round(value, 3) for name, value in last.items()}


if __name__ == "__main__":
    main(*map(int, sys.argv[1:3]), *sys.argv[3:4])
