"""What does it get wrong? How is the machine?"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from typing import Any

import numpy as np

from ._answers import Answer
from ._series import Record

__all__ = ["answers"]

FULL = 0.95
LEAST_TRUE = 5  # examples of a class that is never decided for
MISSED = 0.06  # of a probability
SURE = 4.0  # standard errors
SLOW = 0.2  # of the time


def answers(record: Record) -> Iterator[Answer]:
    """Answers to both questions, as far as the record supports them."""
    yield from _ranks(record)
    yield from _mistakes(record)
    yield from _machine(record)


def _mistakes(record: Record) -> Iterator[Answer]:
    for name, known in (record.held_out.get("targets") or {}).items():
        yield from _never_decided(f" of {name}" if name else "", known)
        yield from _probabilities(f" of {name}" if name else "", known)
    looks = record.run.at_steps("samples", "csv")
    if not looks:
        return
    last = record.run.table_at(looks[max(looks)])
    if "error" not in last or last["error"].isna().all():
        return
    worst = last.sort_values("error", ascending=False).iloc[0]
    first = record.run.table_at(looks[min(looks)])
    better = (
        (last["error"].to_numpy() < first["error"].to_numpy()).mean()
        if len(first) == len(last) and "error" in first
        else np.nan
    )
    decided = f"{worst['truth']} in truth, {str(worst['output'])[:60]} decided"
    said = f"Of {len(last)} fixed examples the worst is {int(worst['example'])}: {decided}."
    if np.isfinite(better) and len(looks) > 1:
        said += f" {better:.0%} of them are nearer the truth than at the first look."
    yield Answer(
        "the fixed examples",
        "sound",
        said,
        "",
        "mistakes",
        "",
        None,
        "",
        {"worst": int(worst["example"])},
    )


def _never_decided(of: str, known: dict[str, Any]) -> Iterator[Answer]:
    """Classes that are there, and that the best state never decides for."""
    rows = list(zip(known["classes"], known["true"], known["decided"], strict=False))
    never = [(name, true) for name, true, decided in rows if true >= LEAST_TRUE and not decided]
    n = known["examples"]
    if never:
        listed = ", ".join(f"{name} ({true} of {n})" for name, true in never[:4])
        yield Answer(
            f"the decisions{of}",
            "suspicious",
            f"The best state never decides for {listed}.",
            "Train longer, draw classes evenly (vinestep.data.Balanced), weigh them "
            "(class_weights=), or decide by another threshold than the likeliest class.",
            "mistakes",
            "class never decided",
        )


def _probabilities(of: str, known: dict[str, Any]) -> Iterator[Answer]:
    """Whether probabilities are right as often as they say."""
    n, accuracy, sure = known["examples"], known["accuracy"], known["confidence"]
    error = known["confidence_error"]
    if not n or accuracy is None or sure is None or not error:
        return
    subject = f"the probabilities{of}"
    cure = "Calibrate: model.calibrated(rows), vinestep calibrate."
    away = [
        (name, true / n, expected / n, (expected - true) / max(_spread(expected, n), 1e-9))
        for name, true, expected in zip(
            known["classes"], known["true"], known["expected"], strict=False
        )
    ]
    worst = max(away, key=lambda row: abs(row[2] - row[1]), default=None)
    if sure - accuracy > max(MISSED, SURE * error):
        said = (
            f"It is too sure: decisions are right {accuracy:.1%} of the time, and their "
            f"probabilities say {sure:.1%} (give or take {error:.1%}). They are not calibrated."
        )
        yield Answer(subject, "suspicious", said, cure, "mistakes", "not calibrated")
    elif worst is not None and abs(worst[2] - worst[1]) > MISSED and abs(worst[3]) > SURE:
        said = (
            f"They expect {worst[2]:.1%} of the examples to be {worst[0]}, and {worst[1]:.1%} "
            "are. They are not calibrated."
        )
        yield Answer(subject, "suspicious", said, cure, "mistakes", "not calibrated")
    elif error > MISSED:
        wanted = math.ceil(n * (SURE * error / MISSED) ** 2)
        said = (
            f"Not enough to tell whether they are calibrated: {n} decisions, right "
            f"{accuracy:.1%} of the time, say {sure:.1%} (give or take {error:.1%})."
        )
        yield Answer(subject, "unclear", said, f"About {wanted:,} examples would tell.", "mistakes")
    else:
        said = (
            f"Decisions are right {accuracy:.1%} of the time, and their probabilities say "
            f"{sure:.1%} (give or take {error:.1%})."
        )
        yield Answer(subject, "sound", said, "", "mistakes")


def _spread(expected: float, n: int) -> float:
    """Standard deviation of how often a class is true, if probabilities are right."""
    return math.sqrt(max(expected * (1 - expected / n), 0.0))


def _machine(record: Record) -> Iterator[Answer]:
    rows = record.machine
    if not len(rows):
        return
    memory, free = rows["memory megabytes"].to_numpy(float), rows["free megabytes"].to_numpy(float)
    share = memory[-1] / (memory[-1] + free[-1])
    busy = float(np.median(rows["processor percent"].to_numpy(float)))
    said = (
        f"The process holds {memory[-1]:,.0f} MB, {free[-1]:,.0f} MB are free; it keeps "
        f"{busy / 100:.1f} processors busy."
    )
    if share > FULL:
        yield Answer(
            "memory",
            "suspicious",
            said,
            "Smaller batches, or nothing else beside it.",
            "machine",
            "memory",
        )
        return
    if (
        len(memory) >= 12
        and memory[-1] > 1.5 * memory[len(memory) // 4]
        and np.all(np.diff(memory[len(memory) // 4 :]) >= 0)
    ):
        yield Answer(
            "memory",
            "suspicious",
            f"{said} It grows without end.",
            "Look for what a loop keeps.",
            "machine",
            "memory grows",
        )
        return
    yield Answer("the machine", "sound", said, "", "machine")


def _ranks(record: Record) -> Iterator[Answer]:
    """Of a run over several ranks: how much of its time each computed, and who kept the others
    waiting.
    """
    rows = record.run.series("ranks")
    if not len(rows):
        return
    spent = {
        what: np.array(
            [rows[name].sum() for name in rows if re.fullmatch(rf"rank \d+ {what}", str(name))]
        )
        for what in ("computing", "waiting", "exchanging")
    }
    computing, whole = spent["computing"], sum(spent.values())
    if len(computing) < 2 or not np.all(whole > 0):
        return
    shares = {what: seconds / whole for what, seconds in spent.items()}
    # who waits for a sum waits for the slowest, and then exchanges about as long as that one does
    longer = shares["exchanging"] - shares["exchanging"].min()
    shares["waiting"] += longer
    shares["exchanging"] -= longer
    slowest = int(np.argmax(computing))
    said = (
        f"{len(computing)} ranks computed {shares['computing'].min():.0%} to "
        f"{shares['computing'].max():.0%} of the time, waited {shares['waiting'].min():.0%} to "
        f"{shares['waiting'].max():.0%}, and exchanged for {shares['exchanging'].mean():.0%}."
    )
    others = np.delete(computing, slowest)
    lag = computing[slowest] / float(np.median(others)) - 1
    if lag > SLOW and float(np.delete(shares["waiting"], slowest).mean()) > SLOW / 2:
        said += f" Rank {slowest} computed {lag:.0%} longer than the others, which waited for it."
        cure = "See what else runs on its machine, and how many threads it has."
        yield Answer("the ranks", "suspicious", said, cure, "machine", "slow rank")
        return
    cure = ""
    if shares["exchanging"].mean() > SLOW:
        cure = "Larger batches exchange less often: each step exchanges all gradients once."
    yield Answer("the ranks", "sound", said, cure, "machine")
