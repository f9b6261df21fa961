"""A network in plain NumPy: two weight matrices, a loss, and `differentiate`.

Nothing of the library is used but the tensor, the derivative and one loss.
Run it: python examples/by_hand.py
"""

import numpy as np

import vinestep as vs


def network(x, hidden, out):
    return np.tanh(x @ hidden) @ out


def main(steps: int = 400, rate: float = 0.5) -> float:
    parcels = vs.demo.parcels()
    x = parcels[["east", "north"]].to_numpy() / 50
    x = np.column_stack([x, np.ones(len(x))])
    labels = parcels["parcel"].astype("category").cat.codes.to_numpy()

    rng = np.random.default_rng(0)
    hidden = vs.Tensor(rng.normal(size=(3, 24)), name="hidden")
    out = vs.Tensor(rng.normal(size=(24, 3)) / 5, name="out")
    for step in range(steps):
        loss = vs.losses.cross_entropy(network(x, hidden, out), labels)
        for weight, gradient in zip(
            (hidden, out), vs.differentiate(loss, wrt=(hidden, out)), strict=True
        ):
            weight -= rate * gradient
        if step % 100 == 0:
            print(f"step {step:4d}  loss {loss:.4f}")
    decided = network(x, hidden.array, out.array).argmax(axis=1)
    accuracy = float(np.mean(decided == labels))
    print(f"step {steps:4d}  loss {loss:.4f}  accuracy {accuracy:.3f}")
    return accuracy


if __name__ == "__main__":
    main()
