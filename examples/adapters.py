"""Rank-8 adapters on a base trained on other texts, against fine-tuning all of it: a table, with
the base in 32, 8 and 4 bits.

Embedding and output are tied, so that tokens that the base never saw can be copied without a new
matrix.
"""

import copy
import sys
import time

import pandas as pd

import vinestep as vs
from vinestep.demo import compressed

N, EPOCHS, WIDTH, DEPTH, LEARNED_ON = (
    int(word) for word in (*sys.argv[1:], *("6000", "8", "128", "3", "8000")[len(sys.argv) - 1 :])
)
HELD_OUT, BATCH = 200, 16

notes = vs.demo.notes(LEARNED_ON).texts
found = vs.demo.shorthand(N + 2 * HELD_OUT)
rows = [
    {"entry": entry, "sentence": sentence}
    for entry, sentence in zip(found.entries, found.sentences, strict=True)
]
known = {row["entry"] for row in rows[:N]}
unseen = [row for row in rows[N:] if row["entry"] not in known][:HELD_OUT]
tokeniser = vs.data.BytePairTokeniser.learned(
    [*notes, *found.entries[:N], *found.sentences[:N]], tokens=400
)
template = vs.data.Template("{entry}\n{sentence}")
train, held_out = (vs.data.Requests(part, template, tokeniser) for part in (rows[:N], unseen))
says_the_same = vs.generation.TextScores(
    held_out, right=lambda written, true: compressed(written) == compressed(true)
)


def trained(network, source, rate, epochs, weight_decay=0.01):
    """The network after training, and the seconds that it took."""
    steps = epochs * -(-len(source) // BATCH)
    training = vs.Training(
        network,
        loss=vs.losses.next_token,
        optimiser=vs.optimisers.AdamW(rate, weight_decay=weight_decay),
        schedule=vs.schedules.warmup(steps // 20 + 1).then(vs.schedules.cosine(steps)),
        clip=1.0,
    )
    begun = time.perf_counter()
    training.run(source.batches(BATCH, order=vs.data.ByLength(source.lengths)), epochs=epochs)
    return network, time.perf_counter() - begun


def held_bytes(network):
    """Memory of weights that do not train."""
    return sum(array.nbytes for array in [*network.statistics().values(), network.arena.frozen])


corpus = vs.data.Documents(notes, tokeniser, length=128)
base = vs.networks.LanguageModel(len(tokeniser), width=WIDTH, depth=DEPTH, tied=True).initialise(
    corpus.batches(1).sample().inputs
)
base, seconds = trained(base, corpus, 2e-3, 3)
print(
    f"base: {sum(w.size for w in base.weights().values()):,} parameters, on {LEARNED_ON:,} notes "
    f"in {seconds:.0f} s"
)

table = []
for name, bits in (
    ("all weights", None),
    ("adapters, 32 bits", 32),
    ("adapters, 8 bits", 8),
    ("adapters, 4 bits", 4),
):
    network = copy.deepcopy(base) if bits is None else base
    if bits in (4, 8):
        network = vs.layers.quantised(
            network, bits=bits, codes="normal" if bits == 4 else "symmetric"
        )
    if bits is not None:
        network = vs.layers.adapted(network, rank=8)
    rate, weight_decay = (1e-3, 0.01) if bits is None else (5e-3, 0.0)
    network, seconds = trained(network, train, rate, EPOCHS, weight_decay)
    trainable, right = (
        sum(p.size for p in network.parameters().values()),
        says_the_same(network)["right"],
    )
    table.append(
        {
            "trained": name,
            "parameters": trainable,
            "of all": trainable / sum(w.size for w in base.weights().values()),
            "base MB": held_bytes(network) / 1e6,
            "right": right,
            "seconds": seconds,
        }
    )
    print(
        f"{name}: {right:.1%} of {len(unseen)} held-out entries right, {trainable:,} parameters, "
        f"{seconds:.0f} s",
        flush=True,
    )
print(
    pd.DataFrame(table)
    .round({"of all": 3, "base MB": 3, "right": 3, "seconds": 0})
    .to_string(index=False)
)
