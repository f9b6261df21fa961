"""From a folder of pictures to a trained network: looked at first, augmented, and handed on with
what prepares photographs.

The folder is written here from made-up leaves; any folder with one subfolder a class will do.
Run it: python examples/picture_folder.py [number of pictures] [epochs]
"""

import sys
import tempfile
from pathlib import Path

from PIL import Image

import vinestep as vs
from vinestep.data import pictures


def write_leaves(folder: Path, n: int, seed: int) -> Path:
    leaves = vs.demo.leaves(n, seed=seed)
    for i, (pixels, label) in enumerate(zip(leaves.pictures, leaves.labels, strict=True)):
        file = folder / leaves.names[label] / f"{i}.png"
        file.parent.mkdir(parents=True, exist_ok=True)
        Image.fromarray((pixels * 255).round().astype("uint8")).save(file)
    return folder


def main(n: int = 900, epochs: int = 12, folder: Path | None = None) -> float:
    folder = Path(tempfile.mkdtemp()) if folder is None else folder
    source = vs.data.PictureFolder(write_leaves(folder / "leaves", n, seed=1))
    print(vs.data.peek(source, 2))

    train, validation = source.prepared(pictures.Resize(32), pictures.Range(-1, 1)).split(
        0.8, 0.2, seed=3, stratified=True
    )
    augment = [pictures.Flip(), pictures.Shift(2, fill=-1)]
    batches = train.batches(64, augment=augment, readers=2)
    batch = next(iter(batches))
    names = [train.class_names[label] for label in batch.targets]
    print(
        "Drawn:",
        vs.figures.save(
            vs.figures.examples(batch.inputs, names, title="A batch as the network gets it"),
            folder / "batch.png",
        ),
    )

    network = vs.Stack(
        vs.Convolution(16, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Convolution(32, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Flatten(),
        vs.Dropout(0.2),
        vs.Dense(train.classes),
    )
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(2e-3),
        metrics=[vs.metrics.accuracy],
        seed=2,
    )
    training.run(batches, validation=validation.batches(256), epochs=epochs)
    accuracy = training.assess(validation.batches(256))["accuracy"]

    model = vs.open_model(training.model().save(folder / "leaves.vine"))
    photograph = source[0][0]
    print(
        f"accuracy {accuracy:.3f}; the first picture is",
        model.predict([photograph])["predicted"][0],
    )
    return accuracy


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
