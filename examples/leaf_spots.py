"""Which pixels of a leaf are spots: a U-shaped network, pictures and masks turned together, and
what raises its answers.
"""

import sys

import matplotlib
import numpy as np

import vinestep as vs

N, EPOCHS = (int(word) for word in (*sys.argv[1:], *("400", "12")[len(sys.argv) - 1 :]))

matplotlib.use("Agg")
spots = vs.demo.leaf_spots(N)
data = vs.data.Dataset(spots.pictures, spots.masks)
train, validation, test = data.split(0.7, 0.15, 0.15, seed=4)

training = vs.Training(
    vs.networks.UShaped(3, channels=(8, 16)),
    task=vs.tasks.Classes(),
    optimiser=vs.optimisers.Adam(3e-3),
    metrics=[vs.metrics.accuracy, vs.metrics.intersection_over_union()],
    seed=4,
)
training.run(
    train.batches(16, augment=[vs.data.pictures.Flip(), vs.data.pictures.Rotate(20)]),
    validation=validation.batches(64),
    epochs=EPOCHS,
    observers=[vs.observers.Progress()],
)
scores = training.assess(test.batches(64))
print("test:", {name: round(float(value), 3) for name, value in scores.items()})

share = np.bincount(train.targets.ravel()) / train.targets.size
print(f"always the most frequent of {len(share)} classes: accuracy {share.max():.3f}")

found = vs.attribution.overview(
    training.model(), test.batches(64), train=train.batches(64), count=4
)
print("written:", ", ".join(path.name for path in found.save("leaf_spots")))
