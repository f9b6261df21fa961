"""Points of eight kinds on a circle, made by each family of networks that make examples.

Run it: python examples/eight_kinds.py [epochs] [seeds] [folder for the figure]
"""

import sys
from pathlib import Path

import numpy as np

import vinestep as vs

SPREAD, BATCH = 0.1, 256
ANGLES = np.arange(8) * np.pi / 4
CENTRES = 2 * np.stack([np.cos(ANGLES), np.sin(ANGLES)], axis=1)


def points(n, seed=0):
    rng = np.random.default_rng(seed)
    made = CENTRES[rng.integers(0, 8, n)] + SPREAD * rng.normal(size=(n, 2))
    return vs.data.Dataset(made.astype(np.float32)).split(0.8, 0.2, seed=0)


def dense(width, activation, outputs=None):
    layers = [vs.Dense(width, activation) for _ in range(3)]
    return vs.Stack(*layers, *([vs.Dense(outputs)] if outputs else []))


def of_losses(network, steps, seed):
    return vs.Training(
        network,
        task=vs.tasks.Generative(),
        optimiser=vs.optimisers.Adam(2e-3),
        schedule=vs.schedules.cosine(steps),
        average=vs.WeightAverage(0.998),
        seed=seed,
    )


def diffusion(steps, seed, **settings):
    body = vs.layers.ConditionedDense(2, width=64, depth=2, fourier_features=6)
    return of_losses(vs.generation.Diffusion(body, deviation=1.4, **settings), steps, seed)


def flow(steps, seed):
    return diffusion(steps, seed, noise=vs.generation.Straight(), predicts="flow")


def pair(steps, seed):
    return vs.AdversarialTraining(
        vs.generation.LatentGenerator(dense(128, vs.relu, 2), latent=2),
        vs.generation.Critic(dense(128, vs.leaky_relu)),
        loss="non_saturating",
        penalty=0.1,
        critic_steps=1,
        optimiser=vs.optimisers.Adam(1e-3, beta1=0.0),
        critic_optimiser=vs.optimisers.Adam(1e-3, beta1=0.0),
        schedule=vs.schedules.cosine(steps),
        critic_schedule=vs.schedules.cosine(steps),
        average=vs.WeightAverage(0.99),
        seed=seed,
    )


def coder(steps, seed):
    return of_losses(
        vs.generation.VariationalAutoencoder(
            vs.layers.ConditionedDense(64, width=64, depth=2, fourier_features=3),
            vs.layers.ConditionedDense(2, width=64, depth=3, fourier_features=8),
            latent=1,
            weight=vs.schedules.warmup(max(1, steps // 10)),
        ),
        steps,
        seed,
    )


ANCESTRAL = {"how": "ancestral", "steps": 200}
FAMILIES = {
    "diffusion": (diffusion, 1, ANCESTRAL),
    "flow matching": (flow, 1, ANCESTRAL),
    "adversarial pair": (pair, 2, {}),
    "variational autoencoder": (coder, 8, {}),
}
"""What makes them, by how much longer it trains, and how samples are drawn."""


def main(epochs: int = 200, seeds: int = 1, folder: str = "eight_kinds") -> dict[str, list[float]]:
    train, validation = points(4000)
    shares, shown = {}, {}
    for name, (family, times, settings) in FAMILIES.items():
        steps = times * epochs * len(train.batches(BATCH))
        for seed in range(seeds):
            training = family(steps, seed)
            training.run(
                train.batches(BATCH),
                validation=validation.batches(400),
                validate_every=10,
                epochs=times * epochs,
            )
            made = training.model().sample(min(2000, 40 * epochs), seed=1, **settings)
            distances = np.linalg.norm(made[:, None] - CENTRES[None], axis=2)
            near = distances.min(axis=1) < 3 * SPREAD
            kinds = len(set(distances.argmin(axis=1)[near]))
            shares.setdefault(name, []).append(round(float(near.mean()), 3))
            shown.setdefault(name, made)
            print(f"{name}, seed {seed}: {kinds} of 8 kinds, {near.mean():.1%} within 3 deviations")
    place = Path(folder)
    place.mkdir(exist_ok=True)
    figure = vs.figures.sample_scatter(validation.inputs, shown, title="Points of eight kinds")
    vs.figures.save(figure, place / "eight_kinds.png")
    return shares


if __name__ == "__main__":
    main(*map(int, sys.argv[1:3]), *sys.argv[3:4])
