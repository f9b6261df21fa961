"""Is it learning? Is it overfitting, and since when?"""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from ..._trend import slope_of, trend_of
from ._answers import Answer
from ._series import Record

__all__ = ["answers"]

LEAST_EPOCHS = 5
TAIL = 0.3  # of the run, by which its end is judged
SURE = 3.0  # standard errors
LOW = 0.1  # of the first loss: there is little left to gain
IDLE = 0.35  # of the run: no gain after it is no convergence any more, but time lost
LEAST_GAIN = 0.005  # of the loss of a constant answer: less is no gain
DETECTED = 0.2  # of it: a part that could not show even so much tells nothing
EARLY = 0.05  # of the highest rate
WIDE_GAP = 0.35  # of the loss of a constant answer, between training and validation
HARDER = 0.12  # share by which the training loss is above that of validation
PERFECT = 0.999
SOLVED = 0.02  # of the first loss


def answers(record: Record) -> Iterator[Answer]:
    """Answers to both questions, as far as the record supports them."""
    rows = record.epochs
    failure = _failure(record)
    if failure:
        yield failure
    if len(rows) < LEAST_EPOCHS or "loss" not in rows:
        return
    if "validation_loss" in rows and len(record.validated) == 0 and not failure:
        yield Answer(
            "the validation loss",
            "wrong",
            f"It is no number in any of {len(rows)} epochs.",
            "Look for NaN and infinite values in the inputs and targets of the validation part.",
            "learning",
            "not finite",
            0.0,
        )
    if not failure:
        yield _is_learning(record)
        yield from _beyond_baseline(record)
    if len(record.validated) >= LEAST_EPOCHS and not record.is_adversarial:
        yield from _overfitting(record)
        yield from _too_good(record)
        yield from _labels(record)


def _failure(record: Record) -> Answer | None:
    if record.run.status != "failed":
        return None
    finite = (
        "NaN or infinit" in record.run.reason
        or "the loss is nan" in record.run.reason
        or "the loss is inf" in record.run.reason
    )
    where = record.epoch_of(record.run.step)
    return Answer(
        "the run",
        "wrong",
        record.run.reason,
        "Lower the rate, begin with a warm-up, or clip the gradients: clip=1.0."
        if finite
        else "Mend what the message says, then resume.",
        question="learning",
        trouble="not finite" if finite else "failed",
        epoch=where,
    )


def _is_learning(record: Record) -> Answer:
    rows = record.epochs
    epoch, loss = rows["epoch"].to_numpy(float), rows["loss"].to_numpy(float)
    trend = trend_of(epoch, loss)
    first, last, best = trend.value[0], trend.value[-1], float(np.min(trend.value))
    noise = float(np.std(loss - np.interp(epoch, trend.at, trend.value)))
    fall = first - best
    if not fall > 3 * noise and not fall > 0.05 * abs(first) and not last > 1.1 * first:
        said = (
            f"The {record.judged} does not fall: it stays at {last:.4g}, give or take {noise:.2g}."
        )
        return _rated(record, said, "no gain", 0.0)
    if last > first + 0.1 * abs(first) or (last - best > 0.2 * fall and last - best > 3 * noise):
        since = float(trend.at[int(np.argmin(trend.value))])
        said = (
            f"The {record.judged} rises again since epoch {since:.0f}: {best:.4g} then, "
            f"{last:.4g} now."
        )
        return Answer(
            f"the {record.judged}",
            "wrong",
            said,
            "Lower the rate, or clip the gradients.",
            "learning",
            "rising",
            since,
        )
    gained = trend.value <= best + max(0.02 * fall, noise / 3)
    since = float(trend.at[int(np.argmax(gained))])
    tail = epoch >= epoch[-1] - max(TAIL * (epoch[-1] - epoch[0]), 4)
    slope, error = slope_of(epoch[tail], loss[tail])
    said = (
        f"The {record.judged} fell from {loss[0]:.4g} to {loss[-1]:.4g} in {epoch[-1]:.0f} epochs"
    )
    figures = {"from": float(loss[0]), "to": float(loss[-1]), "slope": slope, "noise": noise}
    if slope < -SURE * error and -slope * 10 > 0.05 * max(abs(last), noise):
        more = f", and still falls by {-slope:.2g} an epoch."
        return Answer(
            f"the {record.judged}",
            "sound",
            said + more,
            "More epochs would help.",
            "learning",
            "",
            None,
            "",
            figures,
        )
    if since < IDLE * epoch[-1] and epoch[-1] >= 10 and not last < LOW * first:
        rate = rows["rate"].to_numpy(float)
        if np.interp(since, epoch, rate) < EARLY * float(rate.max()):
            return _rated(
                record,
                f"{said}, but has not fallen any more since epoch {since:.0f}.",
                "plateau",
                since,
            )
        return Answer(
            f"the {record.judged}",
            "sound",
            f"{said}, and is level since epoch {since:.0f}.",
            "It is done, or a lower rate (vinestep.schedules.plateau) or a larger network goes "
            "further.",
            "learning",
            "",
            since,
            "",
            figures,
        )
    return Answer(
        f"the {record.judged}",
        "sound",
        f"{said}; the last gains are within its noise.",
        "",
        "learning",
        "",
        None,
        "",
        figures,
    )


def _beyond_baseline(record: Record) -> Iterator[Answer]:
    """Whether the network says more than the best answer that is the same for every example."""
    known, subject = record.baseline, "what was learned"
    if "validation_loss" not in known or "validation_error" not in known:
        return
    reference, error = known["validation_loss"], known["validation_error"]
    if not len(record.validated):
        return
    best = float(record.validated["validation_loss"].min())
    gain, size = reference - best, max(abs(reference), 1e-12)
    words = (
        f"the best validation loss is {best:.4g}, and the best constant answer gets "
        f"{reference:.4g}, give or take {error:.2g}."
    )
    figures = {"baseline": reference, "best": best, "error": error}
    if gain > max(SURE * error, LEAST_GAIN * size):
        said = f"More than a constant answer: {words}"
        yield Answer(subject, "sound", said, "", "learning", "", None, "", figures)
    elif SURE * error > DETECTED * size:
        n = int(known.get("validation_examples", 0))
        wanted = math.ceil(max(n, 1) * (SURE * error / (DETECTED * size)) ** 2)
        yield Answer(
            subject,
            "unclear",
            f"Not enough to tell whether it says more than a constant answer: {words}",
            f"About {wanted:,} validation examples would tell; there are {n:,}.",
            "learning",
            "",
            None,
            "",
            figures,
        )
    else:
        yield Answer(
            subject,
            "wrong",
            f"No more than a constant answer: {words} It never left chance.",
            "See whether inputs and targets belong together, whether the rate is right, and "
            "whether the inputs can tell the targets at all.",
            "learning",
            "chance",
            0.0,
            "",
            figures,
        )


def _rated(record: Record, said: str, trouble: str, since: float) -> Answer:
    rows = record.epochs
    rate = rows["rate"].to_numpy(float)
    at = np.interp(since, rows["epoch"].to_numpy(float), rate)
    highest = float(rate.max())
    if trouble == "plateau":
        cure = (
            f"The rate had fallen to {at:.2g} by then, of {highest:.2g}: let it fall later, or "
            "to a higher floor."
        )
    else:
        cure = (
            "Look at the rate (vinestep.training.rate_range), at dead layers, and at whether "
            "inputs and targets belong together."
        )
    return Answer(
        "the training loss",
        "suspicious" if trouble == "plateau" else "wrong",
        said,
        cure,
        "learning",
        trouble,
        since,
    )


def _overfitting(record: Record) -> Iterator[Answer]:
    rows = record.epochs[record.epochs["validation_loss"].notna()]
    epoch, loss, held_out = (
        rows[name].to_numpy(float) for name in ("epoch", "loss", "validation_loss")
    )
    trend, training = trend_of(epoch, held_out, share=0.25), trend_of(epoch, loss)
    at = int(np.argmin(trend.value))
    best, last, since = float(trend.value[at]), float(trend.value[-1]), float(trend.at[at])
    noise = float(np.std(np.diff(held_out))) / math.sqrt(2) if len(held_out) > 2 else 0.0
    learned = max(float(trend.value[0]) - best, 1e-12)
    then, now = float(np.interp(since, training.at, training.value)), float(training.value[-1])
    rises = last - best
    if (
        rises > max(3 * noise, 0.05 * abs(best))
        and rises > 0.05 * learned
        and now < then - 0.02 * abs(then)
    ):
        said = (
            f"Overfitting since epoch {since:.0f}: the validation loss rose from {best:.4g} to "
            f"{last:.4g} while the training loss fell from "
            f"{then:.4g} to {now:.4g}."
        )
        cure = (
            "Keep the state of that epoch (Checkpoints('best')), end by Patience, or use "
            "dropout, weight decay, augmentation, more data."
        )
        yield Answer(
            "validation against training",
            "suspicious",
            said,
            cure,
            "overfitting",
            "overfitting",
            since,
        )
    else:
        gap = f"The validation loss is {held_out[-1]:.4g}, the training loss {loss[-1]:.4g}."
        if (wide := _wide_gap(record, best, then, since, gap)) is not None:
            yield wide
            return
        yield Answer(
            "validation against training",
            "sound",
            f"The validation loss does not rise. {gap}",
            "",
            "overfitting",
        )


def _wide_gap(record: Record, best: float, then: float, since: float, gap: str) -> Answer | None:
    """The validation loss does not rise, and is far above the training loss all the same."""
    reference = record.baseline.get("validation_loss")
    error = record.validation_error
    if reference is None or not best - then > max(WIDE_GAP * abs(reference), SURE * error):
        return None
    said = (
        f"The validation loss does not rise, but at its best, epoch {since:.0f}, it is {best:.4g} "
        f"where the training loss is {then:.4g}: what is learned of one part holds little in the "
        f"other. {gap}"
    )
    cure = (
        "See whether both parts are prepared alike and drawn alike; then more data, dropout, "
        "weight decay or a smaller network."
    )
    return Answer(
        "validation against training", "suspicious", said, cure, "overfitting", "gap", since
    )


def _too_good(record: Record) -> Iterator[Answer]:
    """A task that is solved without any error is often one whose answer stands in the inputs."""
    rows = record.epochs[record.epochs["validation_loss"].notna()]
    first = float(rows["validation_loss"].iloc[0])
    scores = [
        str(name)
        for name in rows
        if str(name).startswith("validation_") and "accuracy" in str(name)
    ]
    for name in scores:
        last, loss = float(rows[name].iloc[-1]), float(rows["validation_loss"].iloc[-1])
        if last >= PERFECT and loss < SOLVED * first:
            reached = float(rows["epoch"][rows[name] >= PERFECT].iloc[0])
            what = (
                f"{name.replace('_', ' ')} is {last:.4g}, the loss {loss / first:.1%} of the first"
            )
            said = f"{what}; without an error since epoch {reached:.0f}."
            cure = (
                "The task may be as easy as that. If it cannot be: look for a column that holds "
                "the answer, and for examples in both parts."
            )
            yield Answer("how well it does", "unclear", said, cure, "overfitting", "leak", reached)
            return


def _labels(record: Record) -> Iterator[Answer]:
    """Training examples that stay harder than those of validation: some of their targets may be
    wrong.
    """
    rows = record.validated
    if record.has_dropout() or len(rows) < 8:
        return
    held_out = rows["validation_loss"].to_numpy(float)
    # the loss of an epoch is a mean over weights that change: half an epoch older than at its end
    middle = (held_out[:-1] + held_out[1:]) / 2
    late = rows.iloc[1:].assign(validation_loss=middle).iloc[len(rows) // 2 - 1 :]
    gap = (late["loss"] - late["validation_loss"]).to_numpy(float)
    noise = max(float(np.std(gap)) / math.sqrt(len(gap)), record.validation_error)
    share = float(gap.mean()) / max(float(late["loss"].mean()), 1e-12)
    if share > HARDER and gap.mean() > 5 * noise and (gap > 0).mean() > 0.95:
        said = (
            f"The training loss stays {share:.0%} above the validation loss "
            f"({late['loss'].mean():.4g} against "
            f"{late['validation_loss'].mean():.4g}), and nothing random is in the network: the "
            "training part is harder."
        )
        cure = (
            "Some of its targets may be wrong, or the parts were drawn differently. Look at "
            "the training examples of highest loss."
        )
        yield Answer("the targets", "suspicious", said, cure, "mistakes", "noisy labels")
