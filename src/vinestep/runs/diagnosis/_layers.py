"""Which layer is in trouble? What does the optimiser do?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..._trend import slope_of
from ._answers import Answer
from ._series import Record

__all__ = ["answers"]

VANISHED = 1e-4  # of a layer's gradient, by weight, against the largest
LARGE_MOVE, MUCH, SMALL_MOVE = 0.1, 0.015, 1e-6  # of an update, against the weights
LARGE_GRADIENT = 1e3
SATURATED = 0.98
BOUNDED = ("tanh", "sigmoid", "hard_sigmoid", "softsign", "expit")
CUT = ("relu", "relu6", "maximum")


def answers(record: Record) -> Iterator[Answer]:
    """Answers to both questions, as far as the record supports them; the worst first."""
    if len(record.norms) >= 2 and record.layers:
        troubled = [
            *_still(record),
            *_dead(record),
            *_vanished(record),
            *_exploded(record),
            *_saturated(record),
        ]
        yield from _told_once(troubled)
        if not troubled:
            said = (
                f"The gradients of all {len(record.layers)} layers with parameters are "
                "alive and of a size."
            )
            yield Answer("the layers", "sound", said, "", "layers")
        yield from _optimiser(record)


def _told_once(troubled: list[Answer]) -> Iterator[Answer]:
    """A layer that is told of once is not told of again: what follows is often a consequence."""
    seen: set[str] = set()
    for answer in troubled:
        if answer.layer not in seen:
            seen.add(answer.layer)
            yield answer


def _since(record: Record, holds: np.ndarray) -> float | None:
    """The epoch since which something holds to the end."""
    broken = np.flatnonzero(~holds)
    first = 0 if not len(broken) else int(broken[-1]) + 1
    return record.epoch_of(float(record.norms["step"].iloc[first])) if first < len(holds) else None


def _lasting(holds: np.ndarray) -> bool:
    """Whether it holds in the last fifth."""
    return bool(holds[-max(2, len(holds) // 5) :].all())


def _still(record: Record) -> Iterator[Answer]:
    """Layers whose weights do not move, though they have gradients."""
    for layer in record.layers:
        update, gradient = (
            record.layer_norms(layer, "update"),
            record.layer_norms(layer, "gradient"),
        )
        holds = (update == 0) & (gradient > 0)
        if _lasting(holds):
            said = f"{layer or 'The network'} has gradients, and does not move: its rate is 0."
            cure = "Freeze it if that is meant (network.freeze), or take it out of rate_factors."
            yield Answer(
                f"layer {layer}",
                "suspicious",
                said,
                cure,
                "layers",
                "does not move",
                _since(record, holds),
                layer,
            )


def _dead(record: Record) -> Iterator[Answer]:
    """Layers behind which nothing comes back: their outputs are cut to 0 for all examples."""
    gradients = {layer: record.whole_gradient(layer) for layer in record.layers}
    dead = {layer: values == 0 for layer, values in gradients.items() if _lasting(values == 0)}
    if not dead:
        return
    last = list(dead)[-1]  # those before it get nothing because it is dead
    since = _since(record, dead[last])
    where = next((path for path in _activations(record) if _is_dead(record, path)), last)
    layer = last
    why = (
        f"the outputs of {where} are 0 for every example"
        if where != last
        else "nothing of it reaches the loss"
    )
    said = f"{layer or 'The network'} gets no gradient{_when(since)}: {why}."
    before = [one for one in dead if one != last]
    if before:
        said += f" Those before it get none either: {', '.join(before[:4])}."
    cure = "A smaller rate, another initialiser, or leaky_relu or gelu in place of relu."
    yield Answer(f"layer {layer}", "wrong", said, cure, "layers", "dead", since, layer)
    for one in before:
        yield Answer(
            f"layer {one}",
            "wrong",
            f"{one} gets no gradient, since {layer} is dead.",
            "",
            "layers",
            "behind a dead layer",
            since,
            layer,
        )


def _activations(record: Record) -> list[str]:
    names = [str(name) for name in record.distributions if str(name).startswith("activations ")]
    return [
        name.removeprefix("activations ").removesuffix(" 100%")
        for name in names
        if name.endswith(" 100%")
    ]


def _is_dead(record: Record, path: str) -> bool:
    high, low = (
        record.distributions[f"activations {path} 100%"].to_numpy(float),
        record.distributions[f"activations {path} 0%"].to_numpy(float),
    )
    return len(high) > 0 and high[-1] == 0 and low[-1] == 0


def _when(since: float | None) -> str:
    return (
        "" if since is None else " from the beginning" if since < 1 else f" since epoch {since:.0f}"
    )


def _relative(record: Record) -> dict[str, np.ndarray]:
    """Gradients by the size of the weights: what an update could change."""
    result = {}
    for layer in record.layers:
        weight = record.layer_norms(layer, "norm")
        result[layer] = record.layer_norms(layer, "gradient") / np.where(weight > 0, weight, np.nan)
    return result


def _vanished(record: Record) -> Iterator[Answer]:
    """Gradients that get lost on the way back to the first layers."""
    relative = _relative(record)
    if len(relative) < 3:
        return
    table = np.array(list(relative.values()))
    with np.errstate(invalid="ignore", divide="ignore"):
        share = table / np.nanmax(table, axis=0)
    early = share[:, : max(2, table.shape[1] // 2)]
    median = np.nanmedian(early, axis=1)
    low = [layer for layer, value in zip(relative, median, strict=True) if 0 < value < VANISHED]
    first = next(iter(relative))
    if first in low:
        at = list(relative).index(low[-1])
        said = (
            f"Gradients vanish on the way back: that of {first} is {median[0]:.1g} of the "
            f"largest, by weight; so up to {low[-1]}."
        )
        cure = (
            "Residual layers, normalisation, relu or gelu in place of bounded activations, or "
            "an initialiser that fits them."
        )
        since = record.epoch_of(float(record.norms["step"].iloc[0]))
        yield Answer(
            f"layer {first}",
            "wrong",
            said,
            cure,
            "layers",
            "vanishing",
            since,
            first,
            {"up to": low[-1], "layers": at + 1},
        )


def _exploded(record: Record) -> Iterator[Answer]:
    for layer in record.layers:
        values = record.layer_norms(layer, "gradient")
        known = values[np.isfinite(values) & (values > 0)]
        if len(known) < 2:
            continue
        typical = float(np.median(known[: max(2, len(known) // 5)]))
        large = values > LARGE_GRADIENT * typical
        if large.any():
            at = int(np.argmax(large))
            since = record.epoch_of(float(record.norms["step"].iloc[at]))
            times = f"{values[at] / typical:,.0f} times what it was at first"
            said = f"The gradient of {layer} has a norm of {values[at]:.2g}{_when(since)}, {times}."
            yield Answer(
                f"layer {layer}",
                "wrong",
                said,
                "Clip the gradients (clip=1.0), lower the rate, or normalise.",
                "layers",
                "exploding",
                since,
                layer,
            )


def _saturated(record: Record) -> Iterator[Answer]:
    """Bounded activations most of whose units stand at their bounds."""
    frame = record.distributions
    for path in _activations(record):
        kind = record.kind_of(path).lower()
        columns = [f"activations {path} {q}%" for q in (5, 25, 50, 75, 95)]
        if not any(name in kind for name in BOUNDED) or any(
            column not in frame for column in columns
        ):
            continue
        values = frame[columns].to_numpy(float)
        middle = 0.5 if "sigmoid" in kind or "expit" in kind else 0.0
        half = 0.5 if middle else 1.0
        away = np.abs(values - middle) / half
        holds = np.asarray((away[:, [0, 1, 3, 4]] > SATURATED).all(axis=1))
        if len(holds) >= 2 and holds[-max(2, len(holds) // 5) :].all():
            broken = np.flatnonzero(~holds)
            first = 0 if not len(broken) else int(broken[-1]) + 1
            since = record.epoch_of(float(frame["step"].iloc[first]))
            said = (
                f"The units of {path} ({kind}) stand at their bounds three times in "
                f"four{_when(since)}: their slope there is nearly 0."
            )
            cure = (
                "Smaller first weights, a smaller rate, inputs brought to one scale, or "
                "normalisation before it."
            )
            yield Answer(
                f"layer {path}", "suspicious", said, cure, "layers", "saturated", since, path
            )


def _optimiser(record: Record) -> Iterator[Answer]:
    ratios = {
        layer: record.layer_norms(layer, "update")
        / np.maximum(record.layer_norms(layer, "norm"), 1e-300)
        for layer in record.layers
    }
    table = np.array(list(ratios.values()))
    table = np.where(table < 1e6, table, np.nan)  # weights that begin at 0
    half = table[:, table.shape[1] // 4 :]
    with np.errstate(all="ignore"):
        typical = float(np.nanmedian(half))
        per_layer = np.nanmedian(half, axis=1)
    if not np.isfinite(typical):
        return
    rate = float(record.norms["rate"].iloc[-1]) if "rate" in record.norms else float("nan")
    highest = float(record.norms["rate"].max()) if "rate" in record.norms else rate
    figures = {"ratio": typical, "rate": rate}
    said = (
        f"An update changes the weights by {typical:.2g} of their size (median), at a rate of "
        f"{rate:.3g} at the end."
    )
    if typical > LARGE_MOVE or (typical > MUCH and not _gains(record)) or _is_rough(record):
        cure = "That is much: a rate three to ten times smaller, a warm-up, or clipping."
        yield Answer(
            "the updates",
            "suspicious",
            f"{said}{_rough_words(record)}",
            cure,
            "optimiser",
            "rate too high",
            0.0,
            "",
            figures,
        )
    elif 0 < typical < SMALL_MOVE * 20 and rate > 0.3 * highest and _hardly_moved(record):
        cure = (
            "That is little: the network hardly moves. A rate ten to a hundred times larger; "
            "see vinestep.training.rate_range."
        )
        yield Answer(
            "the updates", "suspicious", said, cure, "optimiser", "rate too low", 0.0, "", figures
        )
    else:
        quick, slow = int(np.nanargmax(per_layer)), int(np.nanargmin(per_layer))
        names = list(ratios)
        if len(names) > 1:
            said += (
                f" Layer {names[quick]} moves most ({per_layer[quick]:.2g}), {names[slow]} "
                f"least ({per_layer[slow]:.2g})."
            )
        yield Answer("the updates", "sound", said, "", "optimiser", "", None, "", figures)


def _hardly_moved(record: Record) -> bool:
    loss = record.epochs["loss"].to_numpy(float) if "loss" in record.epochs else np.zeros(0)
    return len(loss) < 2 or loss[-1] > 0.8 * loss[0]


def _is_rough(record: Record) -> bool:
    """Whether the loss of an epoch jumps up and down by more than it falls."""
    loss = record.epochs["loss"].to_numpy(float) if "loss" in record.epochs else np.zeros(0)
    if len(loss) < 6:
        return False
    late = loss[len(loss) // 4 :]
    jumps = np.abs(np.diff(late))
    return bool(np.median(jumps) > 0.25 * np.median(late) and (np.diff(late) > 0).mean() > 0.3)


def _gains(record: Record) -> bool:
    """Whether the training loss still falls in the second half."""
    if "loss" not in record.epochs or len(record.epochs) < 6:
        return True
    late = record.epochs.iloc[len(record.epochs) // 2 :]
    slope, error = slope_of(late["epoch"].to_numpy(float), late["loss"].to_numpy(float))
    return slope < -2 * error


def _rough_words(record: Record) -> str:
    return (
        " The loss of an epoch jumps up and down by more than a quarter of itself."
        if _is_rough(record)
        else ""
    )
