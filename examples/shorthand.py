"""A network that writes a cellar master's terse entries out as sentences, scored by whether a rule
gives the same entry again.
"""

import sys

import vinestep as vs
from vinestep.demo import compressed

N, EPOCHS, WIDTH = (
    int(word) for word in (*sys.argv[1:], *("6000", "9", "128")[len(sys.argv) - 1 :])
)

found = vs.demo.shorthand(N + 400)
rows = [
    {"entry": entry, "sentence": sentence}
    for entry, sentence in zip(found.entries, found.sentences, strict=True)
]
known = set(found.entries[:N])
unseen = [row for row in rows[N:] if row["entry"] not in known][:200]

tokeniser = vs.data.BytePairTokeniser.learned(
    [*found.entries[:N], *found.sentences[:N]], tokens=400
)
template = vs.data.Template("{entry}\n{sentence}")
train, held_out = (vs.data.Requests(part, template, tokeniser) for part in (rows[:N], unseen))
scores = vs.generation.TextScores(
    held_out, right=lambda written, true: compressed(written) == compressed(true)
)

steps = EPOCHS * -(-N // 16)
training = vs.Training(
    vs.networks.LanguageModel(len(tokeniser), width=WIDTH, depth=3, tied=True),
    loss=vs.losses.next_token,
    optimiser=vs.optimisers.AdamW(1.5e-3),
    schedule=vs.schedules.warmup(steps // 20 + 1).then(vs.schedules.cosine(steps)),
    clip=1.0,
    seed=1,
)
outcome = training.run(
    train.batches(16, order=vs.data.ByLength(train.lengths)),
    validation={"validation": held_out.batches(32), "texts": scores},
    validate_every=max(EPOCHS // 4, 1),
    epochs=EPOCHS,
    record="records",
)
columns = [
    name for name in outcome.curves if name.startswith(("loss", "validation_loss", "texts_"))
]
print(outcome.curves[columns].dropna().round(4).to_string())
print(f"right: {outcome.curves['texts_right'].iloc[-1]:.1%} of {len(unseen)} held-out entries")

model = vs.open_model(training.model().save("shorthand.vine"))
for entry in ("rk 12 > 14, +20 s, tp", "ts 4/5, ! 3.9"):
    print(f"{entry}  ->  {model.generate(entry).text}")
