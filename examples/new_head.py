"""A network trained on what ails a leaf gets a new head for cultivars: its body is frozen first,
and then trained on at a smaller rate.

Run it: python examples/new_head.py [number of pictures] [epochs]
"""

import sys
import tempfile

import vinestep as vs


def parts(leaves, seed):
    data = vs.data.Dataset(leaves.pictures, leaves.labels, class_values=leaves.names)
    return data.split(0.7, 0.15, 0.15, seed=seed, stratified=True)


def network(classes):
    return vs.Stack(
        vs.Stack(
            vs.Convolution(16, 3, activation=vs.relu), vs.MaxPool(2), vs.BatchNorm(),
            vs.Convolution(32, 3, activation=vs.relu), vs.MaxPool(2), vs.BatchNorm(), vs.Flatten(),
        ),
        vs.Dense(classes),
    )  # fmt: skip


def main(n: int = 1200, epochs: int = 8) -> dict[str, float]:
    records = tempfile.mkdtemp()
    conditions, cultivars = vs.demo.leaves(n), vs.demo.leaves(max(n // 2, 120), kind="cultivar")
    train, validation, test = parts(conditions, seed=1)
    first = vs.Training(
        network(6), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy], seed=1
    )
    run = first.run(
        train.batches(32),
        epochs=epochs,
        validation=validation.batches(128),
        record=records,
        name="conditions",
    )

    train, validation, test = parts(cultivars, seed=2)
    scores = {}
    for name, pattern in (("from anew", None), ("body taken over", "0/*")):
        fine = network(4).initialise(train.inputs[:1], seed=2)
        head = vs.Training(
            fine, loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy], seed=2
        )
        if pattern is not None:
            print(head.start_from(run.folder, pattern=pattern))
            fine.freeze("0/*")
            head.run(train.batches(32), epochs=epochs, validation=validation.batches(128))
            fine.thaw("0/*")
        whole = vs.Training(
            fine,
            loss=vs.losses.cross_entropy,
            optimiser=vs.optimisers.AdamW(
                2e-3, decay_of="weights", rate_factors={"0/*": 0.2} if pattern is not None else None
            ),
            metrics=[vs.metrics.accuracy],
            seed=3,
        )
        whole.parent = head.parent
        whole.run(train.batches(32), epochs=epochs, validation=validation.batches(128))
        scores[name] = whole.assess(test.batches(128))["accuracy"]
        print(
            f"cultivars, {name}: accuracy {scores[name]:.3f}, parent "
            f"{whole.parent.get('run', 'none') or 'none'}"
        )
    return scores


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
