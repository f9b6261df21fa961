"""The yield of a vineyard, with a rate that falls when the validation loss gets no better, and a
run that ends when it is low.

Run it: python examples/plateau.py [number of sites] [most epochs]
"""

import sys

import vinestep as vs


def main(n: int = 1200, epochs: int = 200) -> dict[str, float]:
    harvest = vs.demo.harvest(n)
    table = vs.data.Table(harvest, target=harvest.columns[-1])
    train, validation, test = vs.data.scaled(*table.split(0.7, 0.15, 0.15, seed=1))
    training = vs.Training(
        vs.Stack(vs.Dense(48, vs.relu), vs.Dense(48, vs.relu), vs.Dense(1)),
        loss=vs.losses.squared_error,
        optimiser=vs.optimisers.Adam(0.01),
        schedule=vs.schedules.warmup(50).then(vs.schedules.plateau(6, factor=0.3, floor=0.01)),
        metrics=[vs.metrics.r_squared],
        average=vs.WeightAverage(0.98),
        seed=1,
    )
    found = training.rehearse(train.batches(32), validation.batches(256))
    print(f"rehearsal: {found.verdict}; {len(found.findings)} findings in {found.seconds:.1f} s")
    outcome = training.run(
        train.batches(32),
        until=f"{epochs} epochs or no gain for 25 epochs, not before 20 epochs",
        validation=validation.batches(256),
        observers=[vs.observers.Progress()],
    )
    rates = outcome.curves["rate"]
    score = training.model().assess(test.inputs, test.targets)["r_squared"]
    print(outcome.reason)
    print(
        f"the rate went from {rates.max():.3g} to {rates.iloc[-1]:.3g}; R squared of the averaged "
        f"weights on new sites: {score:.3f}"
    )
    return {"r_squared": score, "lowest rate": float(rates.min())}


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
