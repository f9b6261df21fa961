"""Set-ups with one planted fault each, and the words by which it has to be named."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

import vinestep as vs

from . import sound
from .setup import of_parts, of_table
from .sound import arrays, convolutional, dense, leaves, lots, musts, numbers, small_pictures, two

CLASSES, NUMBERS, BINARY = vs.tasks.Classes, vs.tasks.Numbers, vs.tasks.Binary


@dataclass
class Fault:
    """A set-up with something wrong."""

    made: Any
    """Makes the set-up of a seed."""
    says: str
    """A pattern of a finding that names the fault."""
    any_verdict: bool = False
    """Whether a finding that is sound may name it: it is no fault, and advice is wanted."""


def barrels(seed, n=1200):
    return vs.demo.barrels(n, seed=seed + 60)


def scaled_parts(frame, target, seed, **reading):
    table = vs.data.Table(frame, target=target, **reading)
    return vs.data.scaled(*table.split(0.8, 0.2, seed=seed, stratified=bool(table.class_values)))


def with_network(network, seed, **options):
    return of_parts(
        *scaled_parts(barrels(seed), "state", seed), seed=seed, layers=network, **options
    )


# the data


def shuffled_targets(seed):
    frame = barrels(seed)
    frame["state"] = np.random.default_rng(seed).permutation(frame["state"])
    return of_table(frame, "state", seed)


def noise_for_numbers(seed):
    frame = numbers(900, seed)
    frame["yields"] = np.random.default_rng(seed + 1).normal(size=len(frame))
    return of_table(frame, "yields", seed)


def shuffled_labels_of_pictures(seed):
    data = small_pictures(500, seed)
    data.targets = np.random.default_rng(seed).permutation(data.targets)
    return of_parts(*two(data, seed), seed=seed, layers=convolutional(2), task=CLASSES(), epochs=8)


def rows_doubled(seed):
    frame = lots(400, seed, rate=0.4)
    frame["lot"] = np.random.default_rng(seed).choice(["yes", "no"], len(frame))
    return of_table(pd.concat([frame, frame], ignore_index=True), "lot", seed, epochs=60)


def rows_nearly_doubled(seed):
    frame = lots(500, seed, rate=0.4)
    frame["lot"] = np.random.default_rng(seed).choice(["yes", "no"], len(frame))
    again = frame.copy()
    own = ["rot", "damage", "heat", "acid", "sugar", "stems"]
    again[own] += np.random.default_rng(seed + 1).normal(0, 1e-3, size=again[own].shape)
    return of_table(pd.concat([frame, again], ignore_index=True), "lot", seed, epochs=60)


def two_units(seed):
    frame = barrels(seed)
    rows = np.random.default_rng(seed + 99).random(len(frame)) < 0.3
    frame.loc[rows, "temperature"] = frame.loc[rows, "temperature"] * 9 / 5 + 32
    return of_table(frame, "state", seed)


def two_units_by_ten(seed):
    frame = musts(600, seed)
    rows = np.random.default_rng(seed + 99).random(len(frame)) < 0.25
    frame.loc[rows, "sugar"] *= 10
    return of_table(frame, "variety", seed)


def leak(seed):
    frame = barrels(seed)
    codes = frame["state"].map({"sound": 0.0, "stuck": 1.0, "spoiling": 2.0})
    frame["bottled"] = codes + np.random.default_rng(seed).normal(0, 0.02, len(frame))
    return of_table(frame, "state", seed)


def leak_by_category(seed):
    frame = lots(1500, seed, rate=0.4)
    frame["stamp"] = np.where(frame["lot"] == "yes", "green", "red")
    return of_table(frame, "lot", seed)


def leak_of_a_number(seed):
    frame = numbers(900, seed)
    frame["invoice"] = frame["yields"] * 12.4 + 3
    return of_table(frame, "yields", seed)


def identifier(seed):
    frame = barrels(seed)
    frame["number"] = np.random.default_rng(seed).permutation(len(frame)) + 1
    return of_table(frame, "state", seed)


def unscaled(seed):
    data = arrays(900, seed, targets=lambda x, rng: (x[:, 0] > 0).astype(int))
    data.inputs[:, 0] = data.inputs[:, 0] * 4000 + 20_000
    return of_parts(*two(data, seed), seed=seed, layers=dense(2), task=CLASSES())


def large_targets(seed):
    frame = numbers(900, seed)
    frame["yields"] = frame["yields"] * 4e4 + 2e5
    return of_table(frame, "yields", seed)


def scaled_twice(seed):
    train, validation = scaled_parts(barrels(seed), "state", seed)
    means, spread = validation.inputs.mean(axis=0), validation.inputs.std(axis=0)
    moved = (validation.inputs - means - 1) / (spread * 9 + 1e-6)
    again = validation.with_inputs(moved.astype(np.float32))
    return of_parts(train, again, seed=seed)


def not_scaled(seed):
    data = arrays(900, seed, targets=lambda x, rng: (x[:, 0] + x[:, 1] > 0).astype(int))
    train, validation = two(data, seed)
    validation.inputs = validation.inputs * 30 + 12
    return of_parts(train, validation, seed=seed, layers=dense(2), task=CLASSES())


def shifted(seed):
    frame = numbers(1200, seed)
    train, validation = scaled_parts(frame, "yields", seed)
    moved = validation.inputs.copy()
    moved[:, :3] += 1.2
    return of_parts(train, validation.with_inputs(moved), seed=seed)


def swapped_columns(seed):
    train, validation = scaled_parts(barrels(seed), "state", seed)
    inputs = validation.inputs.copy()
    inputs[:, [0, 4]] = inputs[:, [4, 0]]
    return of_parts(train, validation.with_inputs(inputs), seed=seed)


def columns_in_another_order(seed):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(900, 5)).astype(np.float32) * [1, 2, 0.4, 1, 1.5] + [0, 3, 1, -2, 0]
    data = vs.data.Dataset(x.astype(np.float32), (x[:, 0] + x[:, 2] > 1).astype(int))
    train, validation = two(data, seed)
    validation.inputs = validation.inputs[:, ::-1].copy()
    return of_parts(train, validation, seed=seed, layers=dense(2), task=CLASSES())


def transposed(seed):
    data = leaves(300, seed)
    train, validation = two(data, seed)
    validation.inputs = validation.inputs[:, ::-1].copy()
    train.inputs[:, :12] += 1.0
    validation.inputs[:, -12:] += 1.0
    return of_parts(train, validation, seed=seed, layers=convolutional(6), task=CLASSES(), epochs=4)


def raw_pictures(seed):
    found = vs.demo.leaves(300, seed=seed)
    data = vs.data.Dataset((found.pictures * 255).astype(np.float32), found.labels)
    return of_parts(*two(data, seed), seed=seed, layers=convolutional(6), task=CLASSES(), epochs=4)


def divided_twice(seed):
    found = vs.demo.leaves(300, seed=seed)
    data = vs.data.Dataset((found.pictures / 255).astype(np.float32), found.labels)
    return of_parts(*two(data, seed), seed=seed, layers=convolutional(6), task=CLASSES(), epochs=4)


def copies_of_pictures(seed):
    found = vs.demo.leaves(260, seed=seed)
    rng = np.random.default_rng(seed)
    again = found.pictures[:120] * 0.97 + rng.normal(0, 0.01, size=found.pictures[:120].shape)
    pictures = np.concatenate([found.pictures, again]).astype(np.float32)
    labels = np.concatenate([found.labels, found.labels[:120]])
    data = vs.data.Dataset((pictures - 0.5) / 0.25, labels)
    return of_parts(*two(data, seed), seed=seed, layers=convolutional(6), task=CLASSES(), epochs=4)


def augmentation_that_cuts(seed):
    def brighter(picture, rng):
        return np.clip(picture + 0.1 * rng.random(), 0, 1)

    data = leaves(300, seed)
    return of_parts(
        *two(data, seed),
        seed=seed,
        layers=convolutional(6),
        task=CLASSES(),
        epochs=5,
        batches={"augment": [brighter]},
    )


def class_never_trained(seed):
    data = leaves(300, seed)
    last = data.targets == 5
    train = data.rows(np.flatnonzero(~last)[:200])
    validation = data.rows(np.concatenate([np.flatnonzero(~last)[200:], np.flatnonzero(last)]))
    return of_parts(train, validation, seed=seed, layers=convolutional(6), task=CLASSES(), epochs=4)


def one_class_only(seed):
    data = arrays(500, seed, targets=lambda x, rng: np.zeros(len(x), int))
    return of_parts(*two(data, seed), seed=seed, layers=dense(2), task=CLASSES())


def classes_from_one(seed):
    data = arrays(600, seed, targets=lambda x, rng: 1 + (x[:, 0] > 0) + (x[:, 1] > 0))
    return of_parts(*two(data, seed), seed=seed, layers=dense(4), task=CLASSES())


def nan_inputs(seed):
    data = arrays(600, seed, targets=lambda x, rng: (x[:, 0] > 0).astype(int))
    data.inputs[7, 2] = np.nan
    return of_parts(*two(data, seed), seed=seed, layers=dense(2), task=CLASSES())


def wrong_labels(seed):
    frame = barrels(seed)
    rng = np.random.default_rng(seed)
    train, validation = scaled_parts(frame, "state", seed)
    bad = rng.random(len(train)) < 0.4
    train.targets = np.where(bad, rng.integers(0, 3, len(train)), train.targets)
    return of_parts(train, validation, seed=seed, epochs=30, patience=0)


def labels_mixed_up(seed):
    frame = musts(1500, seed)
    rng = np.random.default_rng(seed + 5)
    bad = rng.random(len(frame)) < 0.12
    frame.loc[bad, "variety"] = rng.permutation(frame.loc[bad, "variety"].to_numpy())
    return of_table(frame, "variety", seed)


def sorted_and_not_shuffled(seed):
    frame = barrels(seed).sort_values("state", ignore_index=True)
    train, validation = scaled_parts(frame, "state", seed)
    order = np.argsort(train.targets, kind="stable")
    return of_parts(
        train.rows(order), validation, seed=seed, epochs=12, batches={"shuffled": False}
    )


def time_mixed(seed):
    data, _ = sound.waves(900, seed)
    return of_parts(
        *data.split(0.8, 0.2, seed=seed),
        seed=seed,
        layers=vs.Stack(vs.Flatten(), vs.Dense(16, vs.relu), vs.Dense(1)),
        task=NUMBERS(),
    )


def few_rows_to_validate(seed):
    return of_table(barrels(seed, 300), "state", seed, split=0.02)


# the network


def _normal(size):
    return lambda rng, shape: (size * rng.normal(size=shape)).astype(np.float32)


def softmax_at_the_end(seed):
    return with_network(vs.Stack(vs.Dense(32, vs.relu), vs.Dense(3, vs.softmax)), seed)


def sigmoid_at_the_end(seed):
    data = arrays(900, seed, targets=lambda x, rng: (x[:, :1] > 0).astype(np.float32))
    network = vs.Stack(vs.Dense(16, vs.relu), vs.Dense(1, vs.sigmoid))
    return of_parts(*two(data, seed), seed=seed, layers=network, task=BINARY())


def relu_at_the_end(seed):
    return with_network(vs.Stack(vs.Dense(32, vs.relu), vs.Dense(3, vs.relu)), seed)


def relu_for_negative_numbers(seed):
    train, validation = scaled_parts(numbers(900, seed), "yields", seed)
    network = vs.Stack(vs.Dense(32, vs.relu), vs.Dense(1, vs.relu))
    return of_parts(train, validation, seed=seed, layers=network)


def large_weights(seed):
    wild = _normal(5.0)
    layers = vs.Dense(32, vs.relu, initialiser=wild), vs.Dense(3, initialiser=wild)
    return with_network(vs.Stack(*layers), seed)


def zero_weights(seed):
    zeros = vs.initialisers.zeros
    layers = vs.Dense(32, vs.relu, initialiser=zeros), vs.Dense(3, initialiser=zeros)
    return with_network(vs.Stack(*layers), seed)


class _Lowered(vs.Layer):
    def compute(self, x):
        return vs.relu(x - 40.0)


def dead_units(seed):
    return with_network(vs.Stack(vs.Dense(32), _Lowered(), vs.Dense(3)), seed)


class _MixedUp(vs.Layer):
    def compute(self, x):
        return x - np.mean(x, axis=0)


def mixes_examples(seed):
    return with_network(vs.Stack(vs.Dense(32, vs.relu), _MixedUp(), vs.Dense(3)), seed)


def no_activation(seed):
    return with_network(vs.Stack(vs.Dense(32), vs.Dense(32), vs.Dense(3)), seed)


class _Constant(vs.Layer):
    def compute(self, x):
        return vs.held(x) * 1.0


def cut_gradients(seed):
    return with_network(vs.Stack(vs.Dense(32, vs.relu), _Constant(), vs.Dense(3)), seed)


def frozen_as_drawn(seed):
    found = with_network(vs.Stack(vs.Dense(32, vs.relu), vs.Dense(3)), seed)
    found.training.initialise(found.train.sample())
    found.training.network.freeze("0/*")
    return found


def too_much_dropout(seed):
    network = vs.Stack(vs.Dense(32, vs.relu), vs.Dropout(0.97), vs.Dense(3))
    return with_network(network, seed)


def saturated(seed):
    wide = _normal(3.0)
    layers = [vs.Dense(32, np.tanh, initialiser=wide) for _ in range(2)]
    network = vs.Stack(*layers, vs.Dense(3))
    return with_network(network, seed)


# the training


def rate_too_high(seed):
    return with_network(dense(3), seed, rate=3.0)


def rate_far_too_high(seed):
    return with_network(dense(3), seed, optimiser=vs.optimisers.SGD(300.0))


def rate_too_low(seed):
    return with_network(dense(3), seed, rate=1e-7, epochs=12, patience=0)


def rate_low(seed):
    return with_network(dense(3), seed, rate=1e-5, epochs=12, patience=0)


def decay_too_strong(seed):
    return with_network(dense(3), seed, optimiser=vs.optimisers.AdamW(3e-2, weight_decay=20.0))


def schedule_ends_early(seed):
    return with_network(
        dense(3), seed, schedule=vs.schedules.cosine(40), rate=3e-3, epochs=30, patience=0
    )


def overfits(seed):
    return of_table(
        barrels(seed, 120), "state", seed, hidden=(200,), rate=5e-3, epochs=120, patience=0
    )


def overfits_numbers(seed):
    return of_table(
        numbers(90, seed, noise=1.0), "yields", seed, hidden=(128, 128), rate=5e-3, epochs=150,
        patience=0,
    )  # fmt: skip


def ends_too_soon(seed):
    return with_network(dense(3), seed, rate=5e-4, epochs=6, patience=0)


def class_never_decided(seed):
    frame = lots(1500, seed, rate=0.03)
    train, validation = scaled_parts(frame, "lot", seed)
    return of_parts(train, validation, seed=seed, hidden=(16,), rate=1e-3, epochs=6, patience=0)


def positive_weight_that_miscalibrates(seed):
    frame = lots(2500, seed, rate=0.1)
    weights = np.array([25.0, 1.0])
    return of_table(frame, "lot", seed, task=vs.tasks.Classes(class_weights=weights))


CHANCE = r"nothing in the inputs|never left chance"
FAULTS = {
    "shuffled targets": Fault(shuffled_targets, CHANCE),
    "numbers that are noise": Fault(noise_for_numbers, CHANCE),
    "shuffled labels of pictures": Fault(shuffled_labels_of_pictures, CHANCE),
    "rows doubled": Fault(rows_doubled, r"training examples too"),
    "rows nearly doubled": Fault(rows_nearly_doubled, r"nearly|equal|in both|alike"),
    "two units": Fault(two_units, r"unit|two groups|apart"),
    "two units by ten": Fault(two_units_by_ten, r"unit|two groups|apart"),
    "leak": Fault(leak, r"predicts the target|holds the answer|bottled"),
    "leak by a category": Fault(leak_by_category, r"predicts the target|holds the answer|stamp"),
    "leak of a number": Fault(leak_of_a_number, r"predicts the target|invoice"),
    "identifier": Fault(identifier, r"identifier"),
    "unscaled": Fault(unscaled, r"learned best|[Ss]cale"),
    "large targets": Fault(large_targets, r"deviation"),
    "scaled twice": Fault(scaled_twice, r"validation"),
    "not scaled": Fault(not_scaled, r"validation"),
    "shifted": Fault(shifted, r"validation"),
    "swapped columns": Fault(swapped_columns, r"validation"),
    "columns in another order": Fault(columns_in_another_order, r"validation"),
    "upside down": Fault(transposed, r"upside down|validation"),
    "raw pictures": Fault(raw_pictures, r"Range|learned best|deviation"),
    "divided twice": Fault(divided_twice, r"twice|divided"),
    "copies of pictures": Fault(copies_of_pictures, r"nearly those"),
    "augmentation that cuts": Fault(augmentation_that_cuts, r"augment"),
    "class never trained": Fault(class_never_trained, r"never sees"),
    "one class only": Fault(one_class_only, r"are of class"),
    "classes from one": Fault(classes_from_one, r"counted from 0"),
    "NaN inputs": Fault(nan_inputs, r"NaN"),
    "wrong labels": Fault(wrong_labels, r"wrong|labels|contradict"),
    "labels mixed up": Fault(labels_mixed_up, r"carry another"),
    "sorted and not shuffled": Fault(sorted_and_not_shuffled, r"order|shuffle"),
    "times mixed": Fault(time_mixed, r"time|neighbour|nearly"),
    "few rows to validate": Fault(few_rows_to_validate, r"examples"),
    "softmax at the end": Fault(softmax_at_the_end, r"softmax|logits"),
    "sigmoid at the end": Fault(sigmoid_at_the_end, r"logits"),
    "relu at the end": Fault(relu_at_the_end, r"relu|logits"),
    "relu for negative numbers": Fault(relu_for_negative_numbers, r"negative|relu"),
    "large weights": Fault(large_weights, r"large|first loss"),
    "zero weights": Fault(zero_weights, r"same for|gradient"),
    "dead units": Fault(dead_units, r"are 0|gradient|same for"),
    "mixes examples": Fault(mixes_examples, r"others"),
    "no activation": Fault(no_activation, r"activation"),
    "cut gradients": Fault(cut_gradients, r"gradient"),
    "frozen as drawn": Fault(frozen_as_drawn, r"frozen"),
    "too much dropout": Fault(too_much_dropout, r"dropout|Dropout"),
    "saturated": Fault(saturated, r"ends of their range|bounds|large"),
    "rate too high": Fault(rate_too_high, r"rate"),
    "rate far too high": Fault(rate_far_too_high, r"rate"),
    "rate too low": Fault(rate_too_low, r"rate"),
    "rate low": Fault(rate_low, r"rate"),
    "decay too strong": Fault(decay_too_strong, r"decay|weights away"),
    "schedule ends early": Fault(schedule_ends_early, r"rate had fallen|schedule"),
    "overfits": Fault(overfits, r"overfit|validation loss rose"),
    "overfits numbers": Fault(overfits_numbers, r"overfit|validation loss rose"),
    "ends too soon": Fault(ends_too_soon, r"[Mm]ore epochs|still falls", True),
    "class never decided": Fault(class_never_decided, r"never"),
    "weights that miscalibrate": Fault(positive_weight_that_miscalibrates, r"calibrat"),
}  # fmt: skip
"""By name; the bank takes two seeds of each."""
