"""Cellar notes of unequal lengths: tokens, buckets by length, padding with a mask, a recurrent
network.

Run it: python examples/sequences.py [number of notes] [epochs]
"""

import sys

import vinestep as vs


def main(n: int = 2000, epochs: int = 12) -> float:
    notes = vs.demo.notes(n)
    tokeniser = vs.data.WordTokeniser.learned(notes.texts)
    source = vs.data.Examples(
        [
            (tokeniser.encode(text), label)
            for text, label in zip(notes.texts, notes.labels.tolist(), strict=True)
        ]
    )
    train, validation = source.split(0.8, 0.2, seed=1, stratified=True)

    lengths = [len(train[i][0]) for i in range(len(train))]
    batches = train.batches(32, order=vs.data.ByLength(lengths), join=vs.data.Padded())
    padding = 1 - sum(batch.masks.sum() for batch in batches) / sum(
        batch.masks.size for batch in batches
    )
    print(f"{len(tokeniser)} tokens; {padding:.1%} of the places are padding")

    network = vs.Stack(
        vs.Embedding(len(tokeniser), 24), vs.LSTM(48, output="last"), vs.Dense(len(notes.names))
    )
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(5e-3),
        metrics=[vs.metrics.accuracy],
        clip=1.0,
    )
    outcome = training.run(
        batches, validation=validation.batches(128, join=vs.data.Padded()), epochs=epochs
    )
    accuracy = float(outcome.curves["validation_accuracy"].iloc[-1])
    print(f"validation accuracy {accuracy:.3f}")
    return accuracy


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
