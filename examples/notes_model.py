"""A language model of the cellar notes, from the corpus to a prompt: how near it comes to the
entropy of the grammar.
"""

import sys
from collections import Counter
from itertools import pairwise

import numpy as np

import vinestep as vs

N, EPOCHS, WIDTH = (
    int(word) for word in (*sys.argv[1:], *("20000", "3", "96")[len(sys.argv) - 1 :])
)

found, held_out = vs.demo.notes(N), vs.demo.notes(500, seed=30)
tokeniser = vs.data.BytePairTokeniser.learned(found.texts, tokens=320)
corpus, validation = (
    vs.data.Documents(part.texts, tokeniser, length=128) for part in (found, held_out)
)
print(f"{N:,} notes in {len(corpus):,} rows of 128 tokens, {corpus.filled:.0%} filled")

steps = EPOCHS * -(-len(corpus) // 8)
training = vs.Training(
    vs.networks.LanguageModel(len(tokeniser), width=WIDTH, depth=2),
    loss=vs.losses.next_token,
    optimiser=vs.optimisers.AdamW(3e-3),
    schedule=vs.schedules.warmup(steps // 20 + 1).then(vs.schedules.cosine(steps)),
    clip=1.0,
    seed=1,
)
outcome = training.run(
    corpus.batches(8), validation=validation.batches(8), epochs=EPOCHS, record="records"
)
print(outcome.curves[["loss", "validation_loss", "rate"]].round(4).to_string())

labels = sum(len(tokeniser.encode(text)) + 1 for text in held_out.texts)
network = outcome.curves["validation_loss"].iloc[-1] * labels / len(held_out.texts)

pairs = Counter(
    pair
    for text in found.texts
    for pair in pairwise(tokeniser.encode(text, begin=True, end=True).tolist())
)
first = Counter()
for (token, _), count in pairs.items():
    first[token] += count


def bigram_nats(text):
    """Of a note, by counts of pairs of tokens, each raised by a tenth."""
    tokens = pairwise(tokeniser.encode(text, begin=True, end=True).tolist())
    return -sum(
        np.log((pairs[pair] + 0.1) / (first[pair[0]] + 0.1 * len(tokeniser))) for pair in tokens
    )


floor = held_out.nats.mean()
print(
    f"nats a note, held out: grammar {floor:.2f}, network {network:.2f} "
    f"({network / floor - 1:+.1%})",
    end=", ",
)
print(
    f"counts of pairs {np.mean([bigram_nats(text) for text in held_out.texts]):.2f}; entropy of "
    f"the grammar {found.entropy:.2f}"
)

model = training.model()
for prompt in ("Fosca 7:", "Marquin 40: not at all thin"):
    print(model.generate(prompt, temperature=1.0, seed=3, most=60).text.join([prompt, ""]))
