"""A variational autoencoder of healthy vine leaves: what it cannot put together again is not
healthy.

Run it: python examples/odd_leaves.py [number of pictures] [epochs] [folder for the pictures]
"""

import sys
from pathlib import Path

import numpy as np
from PIL import Image

import vinestep as vs


def coder(latent=24):
    encoder = vs.Stack(
        *(
            layer
            for width in (16, 32, 48)
            for layer in (vs.Convolution(width, 3, stride=2), vs.BatchNorm(), vs.relu)
        ),
        vs.Flatten(),
        vs.Dense(128, vs.relu),
    )
    decoder = vs.Stack(
        vs.Dense(4 * 4 * 48, vs.relu),
        vs.Reshape((4, 4, 48)),
        *(
            layer
            for width in (48, 32, 16)
            for layer in (vs.Upsample(2), vs.Convolution(width, 3), vs.BatchNorm(), vs.relu)
        ),
        vs.Convolution(3, 3),
    )
    return vs.generation.VariationalAutoencoder(
        encoder, decoder, latent=latent, weight=vs.schedules.warmup(300)
    )


def main(n: int = 2400, epochs: int = 40, folder: str = "odd_leaves") -> dict[str, float]:
    leaves = vs.demo.leaves(n)
    pictures = (leaves.pictures * 2 - 1).astype(np.float32)
    healthy = leaves.labels == list(leaves.names).index("healthy")
    train, validation = vs.data.Dataset(pictures[healthy]).split(0.8, 0.2, seed=0)
    training = vs.Training(
        coder(),
        task=vs.tasks.Generative(),
        optimiser=vs.optimisers.Adam(1e-3),
        clip=100.0,
        average=vs.WeightAverage(0.98),
        seed=0,
    )
    training.run(
        train.batches(32),
        validation=validation.batches(64),
        epochs=epochs,
        observers=[vs.observers.Progress()],
    )
    model = training.model()
    usual = model.predict(validation)["anomaly"].to_numpy()
    result = {}
    for place, name in enumerate(leaves.names):
        if name == "healthy":
            continue
        odd = model.predict(pictures[leaves.labels == place][:80])["anomaly"].to_numpy()
        result[name] = round(float((odd[:, None] > usual[None]).mean()), 3)
    bits = model.network.bits_per_dimension(validation.inputs, draws=4).mean()
    print(f"bits per value of healthy leaves it has not seen: {bits:.2f}")
    print("how often a leaf is odder than a healthy one:", result)
    place = Path(folder)
    place.mkdir(exist_ok=True)
    some = validation.inputs[:12]
    shown = np.concatenate([some, model.network.reconstruct(some), model.sample(12, seed=1)])
    grid = vs.figures.picture_grid((shown + 1) / 2, columns=12)
    Image.fromarray(grid).resize((grid.shape[1] * 3, grid.shape[0] * 3), 0).save(
        place / "put_together.png"
    )
    print(f"given, put together again, and made: {place / 'put_together.png'}")
    return result


if __name__ == "__main__":
    main(*map(int, sys.argv[1:3]), *sys.argv[3:4])
