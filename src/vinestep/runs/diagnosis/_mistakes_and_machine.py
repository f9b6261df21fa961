"""What does it get wrong? How is the machine?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ._answers import Answer
from ._series import Record

__all__ = ["answers"]

FULL = 0.95


def answers(record: Record) -> Iterator[Answer]:
    """Answers to both questions, as far as the record supports them."""
    yield from _mistakes(record)
    yield from _machine(record)


def _mistakes(record: Record) -> Iterator[Answer]:
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
