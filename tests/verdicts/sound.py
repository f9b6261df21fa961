"""Set-ups that are sound: a practitioner would train them as they are."""

import numpy as np
import pandas as pd

import vinestep as vs

from .setup import of_parts, of_table

a = np.asarray


def musts(n=344, seed=0):
    """Readings of musts of three varieties: rare gaps, a category with some, uneven classes."""
    rng = np.random.default_rng(seed)
    variety = rng.choice(3, n, p=[0.44, 0.2, 0.36])
    sugar = np.array([18.5, 21.0, 20.0])[variety] + rng.normal(0, 1.1, n)
    acid = np.array([7.6, 6.1, 6.9])[variety] + rng.normal(0, 0.5, n)
    berry = np.array([1.4, 1.7, 2.1])[variety] + rng.normal(0, 0.14, n)
    weight = 90 * berry + rng.normal(0, 12, n)
    press = np.where(rng.random(n) < 0.7, np.array(["Old", "New", "Old"])[variety], "Hand")
    side = rng.choice(["east", "west"], n).astype(object)
    side[rng.choice(n, max(2, n // 31), replace=False)] = None
    frame = pd.DataFrame(
        {
            "sugar": sugar.round(1),
            "acid": acid.round(2),
            "berry": berry.round(2),
            "weight": weight.round(0),
            "press": press,
            "side": side,
            "variety": np.array(["Sylvaner", "Riesling", "Traminer"])[variety],
        }
    )
    lost = rng.choice(n, max(1, n // 172), replace=False)
    frame.loc[lost, ["sugar", "acid", "berry", "weight"]] = np.nan
    return frame


def lots(n, seed, *, rate=0.08):
    """Lots of grapes, few of which are rejected."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 6))
    logit = 1.6 * x[:, 0] - 1.1 * x[:, 1] * x[:, 2] + np.log(rate / (1 - rate)) - 1.0
    rejected = rng.random(n) < 1 / (1 + np.exp(-logit))
    frame = pd.DataFrame(x.round(3), columns=["rot", "damage", "heat", "acid", "sugar", "stems"])
    return frame.assign(picker=rng.choice(list("ABCDEFGH"), n), lot=np.where(rejected, "no", "yes"))


def numbers(n, seed, *, width=5, noise=0.3):
    """A number that is a curved function of some columns."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, width))
    y = np.sin(1.5 * x[:, 0]) + 0.5 * x[:, 1] ** 2 + x[:, 2] + rng.normal(0, noise, n)
    frame = pd.DataFrame(x, columns=[f"reading {i}" for i in range(width)])
    return frame.assign(press=rng.choice(["a", "b", "c"], n), yields=(y - y.mean()) / y.std())


def counts(n, seed):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 4)).astype(np.float32)
    y = rng.poisson(np.exp(0.6 * x[:, 0] - 0.4 * x[:, 1] + 1.0))
    return vs.data.Dataset(x, y[:, None].astype(np.float32))


def arrays(n, seed, *, targets):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 6)).astype(np.float32)
    return vs.data.Dataset(x, targets(x, rng))


def two(data, seed, share=0.2):
    return data.split(1 - share, share, seed=seed)


def dense(width, hidden=32):
    return vs.Stack(vs.Dense(hidden, vs.relu), vs.Dense(width))


def labels(x, rng):
    noise = rng.normal(0, 0.7, size=(len(x), 3))
    return (x[:, :3] + x[:, 3:] * 0.5 + noise > 0.4).astype(np.float32)


def grades(x, rng):
    return np.digitize(1.5 * x[:, 0] + x[:, 1] + rng.normal(0, 0.8, len(x)), [-1.5, 0, 1.5])


def spread(x, rng):
    return (x[:, :1] + 0.3 * rng.normal(size=(len(x), 1)) * (1 + np.abs(x[:, 1:2]))).astype(
        np.float32
    )


def waves(n, seed, *, steps=24):
    """Windows of a temperature with a daily wave, and what came an hour later."""
    rng = np.random.default_rng(seed)
    t = np.arange(n + steps)
    noise = np.zeros(len(t))
    for i in range(1, len(t)):
        noise[i] = 0.8 * noise[i - 1] + rng.normal(0, 0.25)
    series = np.sin(2 * np.pi * t / 24) + noise
    x = np.stack([series[i : i + steps] for i in range(n)])[..., None].astype(np.float32)
    return vs.data.Dataset(x, series[steps : steps + n, None].astype(np.float32)), t[:n]


def by_time(data, times):
    return data.split(0.8, 0.2, by=times)


def leaves(n, seed):
    found = vs.demo.leaves(n, seed=seed + 17)
    pictures = ((found.pictures - 0.5) / 0.25).astype(np.float32)
    return vs.data.Dataset(pictures, found.labels, class_values=found.names)


def small_pictures(n, seed):
    """Bright bars across or along, on noise."""
    rng = np.random.default_rng(seed)
    kind = rng.integers(0, 2, n)
    pictures = rng.normal(0, 0.6, size=(n, 12, 12, 1))
    for picture, k in zip(pictures, kind, strict=True):
        at = rng.integers(2, 10)
        if k:
            picture[at, :] += 1.5
        else:
            picture[:, at] += 1.5
    return vs.data.Dataset(pictures.astype(np.float32), kind, class_values=("across", "along"))


def convolutional(classes, channels=(8, 16)):
    return vs.networks.convolutional_classifier(classes, channels=channels)


def notes(n, seed):
    found = vs.demo.notes(n, seed=seed + 29)
    tokeniser = vs.data.WordTokeniser.learned(found.texts)
    pairs = [(tokeniser.encode(t), int(k)) for t, k in zip(found.texts, found.labels, strict=True)]
    return vs.data.Examples(pairs), len(tokeniser), len(found.names)


def of_notes(seed):
    data, tokens, classes = notes(900, seed)
    network = vs.Stack(vs.Embedding(tokens, 16), vs.LSTM(24, output="last"), vs.Dense(classes))
    padded = {"join": vs.data.Padded()}
    return of_parts(
        *two(data, seed),
        seed=seed,
        layers=network,
        task=vs.tasks.Classes(),
        rate=8e-3,
        epochs=8,
        clip=1.0,
        batches=padded,
        scored=padded,
    )


def of_language(seed):
    texts = vs.demo.notes(500, seed=seed + 29).texts
    held_out = vs.demo.notes(120, seed=seed + 129).texts
    tokeniser = vs.data.BytePairTokeniser.learned(texts, tokens=300)
    parts = [vs.data.Documents(part, tokeniser, length=48) for part in (texts, held_out)]
    network = vs.networks.LanguageModel(len(tokeniser), width=32, depth=1, heads=2)
    training = vs.Training(
        network,
        loss=vs.losses.next_token,
        optimiser=vs.optimisers.AdamW(4e-3),
        clip=1.0,
        seed=seed,
    )
    from .setup import SetUp

    return SetUp(training, parts[0].batches(16, seed=seed), parts[1].batches(32), 6)


def of_casks(seed):
    frame = vs.demo.casks(900, seed=seed + 13)
    frame["alcohol"] = (frame["alcohol"] - frame["alcohol"].mean()) / frame["alcohol"].std()
    table = vs.data.Table(
        frame,
        targets=["state", "alcohol"],
        target_gaps=True,
        leave_out=["tasters"],
    )
    parts = vs.data.scaled(*table.split(0.8, 0.2, seed=seed))
    network = vs.Heads(vs.Dense(32, vs.relu), {"state": vs.Dense(3), "alcohol": vs.Dense(1)})
    task = vs.tasks.Several(
        {"state": vs.tasks.Classes(gaps=True), "alcohol": vs.tasks.Numbers(gaps=True)}
    )
    return of_parts(*parts, seed=seed, layers=network, task=task)


def of_waves(seed, network):
    data, times = waves(900, seed)
    return of_parts(
        *by_time(data, times),
        seed=seed,
        layers=network,
        task=vs.tasks.Numbers(),
        epochs=15,
        patience=5,
    )


def of_ferments(seed):
    tanks = vs.demo.ferments(400, seed=seed + 23)
    series = ((tanks.series - a([150.0, 21.0])) / a([40.0, 5.0])).astype(np.float32)
    hours = tanks.hours_until_dry
    hours = ((hours - hours.mean()) / hours.std()).astype(np.float32)[:, None]
    network = vs.Stack(
        vs.Convolution(12, 6, stride=6, activation=vs.relu), vs.GRU(12, output="last"), vs.Dense(1)
    )
    return of_parts(
        *two(vs.data.Dataset(series, hours), seed),
        seed=seed,
        layers=network,
        task=vs.tasks.Numbers(),
        rate=5e-3,
        epochs=20,
        clip=1.0,
    )


def of_spots(seed):
    spots = vs.demo.leaf_spots(160, seed=seed + 19)
    data = vs.data.Dataset(((spots.pictures - 0.5) / 0.25).astype(np.float32), spots.masks)
    network = vs.Stack(
        vs.Convolution(8, 3, activation=vs.relu),
        vs.Convolution(8, 3, activation=vs.relu),
        vs.Convolution(3, 3),
    )
    return of_parts(
        *two(data, seed), seed=seed, layers=network, task=vs.tasks.Classes(), batch=16, epochs=8
    )


def of_counts(seed):
    return of_parts(
        *two(counts(900, seed), seed), seed=seed, layers=dense(1), task=vs.tasks.Counts()
    )


def of_arrays(seed, targets, width, task):
    data = arrays(900, seed, targets=targets)
    return of_parts(*two(data, seed), seed=seed, layers=dense(width), task=task)


def of_pictures(data, seed, layers, epochs):
    return of_parts(
        *two(data, seed),
        seed=seed,
        layers=layers,
        task=vs.tasks.Classes(),
        epochs=epochs,
        patience=4,
    )


def recurrent():
    return vs.Stack(vs.GRU(12, output="last"), vs.Dense(1))


def sliding():
    return vs.Stack(vs.Convolution(8, 5, activation=vs.relu), vs.Flatten(), vs.Dense(1))


def of_parcels(seed):
    frame = vs.demo.parcels(700, seed=seed)
    return of_table(frame, "parcel", seed, hidden=(32, 32), rate=1e-2, epochs=40, patience=8)


def of_sixty_rows(seed):
    frame = numbers(60, seed, noise=0.1)
    return of_table(frame, "yields", seed, hidden=(8,), epochs=60, rate=1e-2, patience=10)


def of_noise(seed):
    return of_table(numbers(1200, seed, noise=1.5), "yields", seed, epochs=15, patience=4)


def of_barrels(seed, **options):
    return of_table(vs.demo.barrels(1500, seed=seed + 11), "state", seed, **options)


def with_a_schedule(seed):
    schedule = vs.schedules.warmup(40).then(vs.schedules.cosine(900))
    return of_barrels(seed, schedule=schedule, epochs=24, patience=0)


def with_momentum(seed):
    optimiser = vs.optimisers.SGD(0.02, momentum=0.9)
    return of_table(numbers(1500, seed), "yields", seed, optimiser=optimiser)


def deep(seed):
    return of_table(numbers(1500, seed), "yields", seed, hidden=(48,) * 4, rate=1e-3)


def _scaled_barrels(seed):
    table = vs.data.Table(vs.demo.barrels(1500, seed=seed + 40), target="state")
    return vs.data.scaled(*table.split(0.8, 0.2, seed=seed, stratified=True))


def with_dropout(seed):
    network = vs.Stack(vs.Dense(64, vs.relu), vs.Dropout(0.2), vs.Dense(32, vs.relu), vs.Dense(3))
    return of_parts(*_scaled_barrels(seed), seed=seed, layers=network)


def normalised(seed):
    network = vs.Stack(vs.Dense(32), vs.BatchNorm(), vs.relu, vs.Dense(3))
    return of_parts(*_scaled_barrels(seed), seed=seed, layers=network)


def with_tanh(seed):
    network = vs.Stack(vs.Dense(32, np.tanh), vs.Dense(16, np.tanh), vs.Dense(3))
    return of_parts(*_scaled_barrels(seed), seed=seed, layers=network)


def of_harvest(seed):
    frame = vs.demo.harvest(1200, seed=seed + 23)
    frame["yield"] = (frame["yield"] - frame["yield"].mean()) / frame["yield"].std()
    return of_table(frame, "yield", seed, hidden=(48,), rate=5e-3, epochs=30)


FAMILIES = {
    "musts": (lambda s: of_table(musts(seed=s), "variety", s, epochs=30), 8),
    "barrels": (of_barrels, 4),
    "barrels with dropout": (with_dropout, 3),
    "parcels": (of_parcels, 3),
    "harvest": (of_harvest, 3),
    "casks": (of_casks, 3),
    "rare rejections": (lambda s: of_table(lots(2500, s), "lot", s, epochs=15), 3),
    "numbers": (lambda s: of_table(numbers(800, s), "yields", s), 3),
    "sixty rows": (of_sixty_rows, 3),
    "noisy numbers": (of_noise, 3),
    "sixty thousand rows": (
        lambda s: of_table(lots(60_000, s), "lot", s, epochs=6, batch=256),
        1,
    ),
    "ten thousand numbers": (
        lambda s: of_table(numbers(10_000, s), "yields", s, epochs=10, batch=128),
        1,
    ),
    "counts": (of_counts, 2),
    "labels": (lambda s: of_arrays(s, labels, 3, vs.tasks.Labels()), 2),
    "grades": (lambda s: of_arrays(s, grades, 3, vs.tasks.Ordered()), 2),
    "normal distributions": (lambda s: of_arrays(s, spread, 2, vs.tasks.Gaussian()), 1),
    "quantiles": (lambda s: of_arrays(s, spread, 3, vs.tasks.Quantiles([0.1, 0.5, 0.9])), 1),
    "leaves": (lambda s: of_pictures(leaves(400, s), s, convolutional(6), 8), 2),
    "small pictures": (
        lambda s: of_pictures(small_pictures(600, s), s, convolutional(2, (6, 12)), 8),
        2,
    ),
    "spots": (of_spots, 1),
    "notes": (of_notes, 2),
    "language": (of_language, 2),
    "waves": (lambda s: of_waves(s, recurrent()), 2),
    "waves by convolutions": (lambda s: of_waves(s, sliding()), 1),
    "ferments": (of_ferments, 2),
    "a logistic regression": (lambda s: of_table(lots(1500, s), "lot", s, hidden=()), 1),
    "a deep network": (deep, 1),
    "a wide network": (
        lambda s: of_barrels(s, hidden=(256,), rate=1e-3, epochs=12, patience=4),
        1,
    ),
    "momentum": (with_momentum, 1),
    "a schedule": (with_a_schedule, 1),
    "normalised batches": (normalised, 1),
    "tanh": (with_tanh, 1),
}
"""Of each how it is made with a seed, and how many seeds the bank takes."""
