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
    if not failure:
        yield _is_learning(record)
    if "validation_loss" in rows and rows["validation_loss"].notna().sum() >= LEAST_EPOCHS:
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
        said = f"The training loss does not fall: it stays at {last:.4g}, give or take {noise:.2g}."
        return _rated(record, said, "no gain", 0.0)
    if last > first + 0.1 * abs(first) or (last - best > 0.2 * fall and last - best > 3 * noise):
        since = float(trend.at[int(np.argmin(trend.value))])
        said = (
            f"The training loss rises again since epoch {since:.0f}: {best:.4g} then, "
            f"{last:.4g} now."
        )
        return Answer(
            "the training loss",
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
        f"Yes: the training loss fell from {loss[0]:.4g} to {loss[-1]:.4g} in {epoch[-1]:.0f} "
        "epochs"
    )
    figures = {"from": float(loss[0]), "to": float(loss[-1]), "slope": slope, "noise": noise}
    if slope < -SURE * error and -slope * 10 > 0.05 * max(abs(last), noise):
        more = f", and still falls by {-slope:.2g} an epoch."
        return Answer(
            "the training loss",
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
        return _rated(
            record,
            f"{said}, but has not fallen any more since epoch {since:.0f}.",
            "plateau",
            since,
        )
    return Answer(
        "the training loss",
        "sound",
        f"{said}; the last gains are within its noise.",
        "",
        "learning",
        "",
        None,
        "",
        figures,
    )


def _rated(record: Record, said: str, trouble: str, since: float) -> Answer:
    rows = record.epochs
    rate = rows["rate"].to_numpy(float)
    at = np.interp(since, rows["epoch"].to_numpy(float), rate)
    highest = float(rate.max())
    if trouble == "plateau" and at < 0.05 * highest:
        cure = (
            f"The rate had fallen to {at:.2g} by then, of {highest:.2g}: let it fall later, or "
            "to a higher floor."
        )
    elif trouble == "plateau":
        cure = (
            "A lower rate (vinestep.schedules.plateau), a larger network or other features may "
            "go further; or it is done."
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
            f"Yes, since epoch {since:.0f}: the validation loss rose from {best:.4g} to "
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
        yield Answer(
            "validation against training",
            "sound",
            f"No: the validation loss does not rise. {gap}",
            "",
            "overfitting",
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
                "If that is better than can be: look for a column that holds the answer, and "
                "for examples in both parts."
            )
            yield Answer(
                "how well it does", "suspicious", said, cure, "overfitting", "leak", reached
            )
            return


def _labels(record: Record) -> Iterator[Answer]:
    """Training examples that stay harder than those of validation: some of their targets may be
    wrong.
    """
    rows = record.epochs[record.epochs["validation_loss"].notna()]
    if record.has_dropout() or len(rows) < 8:
        return
    late = rows.iloc[len(rows) // 2 :]
    gap = (late["loss"] - late["validation_loss"]).to_numpy(float)
    noise = float(np.std(gap)) / math.sqrt(len(gap))
    share = float(gap.mean()) / max(float(late["loss"].mean()), 1e-12)
    if share > 0.35 and gap.mean() > 5 * noise and (gap > 0).mean() > 0.95:
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
