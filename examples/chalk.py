"""Codes in chalk read from pictures: an encoder of columns, a decoder that writes, and the
character error rate.
"""

import sys

import matplotlib

import vinestep as vs

N, EPOCHS, WIDTH = (
    int(word) for word in (*sys.argv[1:], *("3000", "9", "96")[len(sys.argv) - 1 :])
)

matplotlib.use("Agg")
found, held_out = vs.demo.chalk(N), vs.demo.chalk(min(N, 200), seed=32)
tokeniser = vs.data.CharacterTokeniser.learned(found.codes)
train, unseen = (
    vs.data.Pairs(part.pictures, part.codes, tokeniser, prepare=[vs.data.pictures.Range()])
    for part in (found, held_out)
)

steps = EPOCHS * -(-N // 32)
training = vs.Training(
    vs.networks.EncoderDecoder(
        None, len(tokeniser), width=WIDTH, depth=2, reader=vs.networks.picture_reader(WIDTH)
    ),
    loss=vs.losses.next_token,
    optimiser=vs.optimisers.AdamW(2e-3),
    schedule=vs.schedules.warmup(steps // 20 + 1).then(vs.schedules.cosine(steps)),
    clip=1.0,
    seed=1,
)
outcome = training.run(
    train.batches(32),
    validation={
        "validation": unseen.batches(50),
        "codes": vs.generation.TextScores(unseen, most=8),
    },
    validate_every=max(EPOCHS // 4, 1),
    epochs=EPOCHS,
    record="records",
)
columns = [
    name for name in outcome.curves if name.startswith(("loss", "validation_loss", "codes_"))
]
print(outcome.curves[columns].dropna().round(4).to_string())

often = max(set(found.codes), key=found.codes.count)
guess = vs.metrics.character_error_rate([often] * len(held_out.codes), held_out.codes)
print(
    f"character error rate: {outcome.curves['codes_character_error_rate'].iloc[-1]:.3f}, guessing "
    f"{often}: {guess:.3f}"
)

model = vs.open_model(training.model().save("chalk.vine"))
written = model.generate(held_out.pictures[:8], most=8)
for code, read in zip(held_out.codes, written, strict=False):
    print(f"{code:6}  read as {read.text}")
