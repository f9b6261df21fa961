"""How inputs at prediction differ from those trained on."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from ..._findings import Finding, Verdict
from ..._lazy_imports import pandas as pd
from ._columns import Encoding, Scaling

__all__ = ["PICTURES", "range_findings", "row_findings"]

PICTURES = 4  # axes of a batch of pictures
NARROWER = 50.0  # times: as if divided once too often
LEVEL = 0.01  # for all columns together
FAR_OUT = 0.5  # of the range trained on: no sample of the same kind goes so far beyond
SIGNIFICANT = 4.0  # standard errors from which a fraction is another one


def row_findings(encoding: Encoding, scaling: Scaling | None, frame: pd.DataFrame) -> list[Finding]:
    """Of rows of a table: out of range, unseen categories, other gaps, columns that are missing."""
    of_ranges = (
        []
        if scaling is None
        else [*_out_of_range(encoding, scaling, frame), *_other_gaps(encoding, scaling, frame)]
    )
    return [*_missing_columns(encoding, frame), *of_ranges, *_unseen(encoding, frame)]


def _missing_columns(encoding: Encoding, frame: pd.DataFrame) -> list[Finding]:
    return [
        Finding(
            f"column {name}",
            "wrong",
            "it is missing, and all its cells were taken as missing.",
            "Give it, or do not trust the result.",
        )
        for name in encoding.missing(frame)
    ]


def _numbers(encoding: Encoding, frame: pd.DataFrame) -> Iterable[tuple[int, str, np.ndarray]]:
    for i, name in enumerate(encoding.numeric):
        if name in frame.columns:
            yield (
                i,
                name,
                pd.to_numeric(frame[name], errors="coerce").to_numpy(dtype=float, na_value=np.nan),
            )


def _out_of_range(encoding: Encoding, scaling: Scaling, frame: pd.DataFrame) -> list[Finding]:
    findings = []
    for i, name, numbers in _numbers(encoding, frame):
        low, high = float(scaling.lowest[i]), float(scaling.highest[i])
        outside = int(np.sum((numbers < low) | (numbers > high)))
        if outside and not _is_by_chance(numbers, low, high, scaling.rows, len(encoding.numeric)):
            verdict: Verdict = "wrong" if outside > len(frame) / 2 else "suspicious"
            evidence = (
                f"{outside} of {len(frame)} rows lie outside {low:.4g} to {high:.4g}, the "
                "range trained on."
            )
            findings.append(
                Finding(
                    f"column {name}",
                    verdict,
                    evidence,
                    "Look at its unit and where it was measured.",
                )
            )
    return findings


def _is_by_chance(numbers: np.ndarray, low: float, high: float, rows: int, columns: int) -> bool:
    """Whether rows drawn as those trained on go beyond their range as often, and not far.

    Of n known and m new values in random order, the highest k are all new with the probability
    m! (n + m - k)! / ((m - k)! (n + m)!).
    """
    known = numbers[np.isfinite(numbers)]
    span = high - low
    if not rows or known.max() > high + FAR_OUT * span or known.min() < low - FAR_OUT * span:
        return False
    chance = 1.0
    for k in (int(np.sum(known > high)), int(np.sum(known < low))):
        i = np.arange(k)
        chance = min(chance, float(np.prod((len(known) - i) / (rows + len(known) - i))))
    return chance * 2 * columns > LEVEL


def _other_gaps(encoding: Encoding, scaling: Scaling, frame: pd.DataFrame) -> list[Finding]:
    findings = []
    for i, name, numbers in _numbers(encoding, frame):
        usual, now = float(scaling.gap_fractions[i]), float(np.isnan(numbers).mean())
        error = max(np.sqrt(usual * (1 - usual) / len(frame)), 0.5 / len(frame))
        if abs(now - usual) > SIGNIFICANT * error:
            evidence = f"{now:.0%} of its cells are empty, at training {usual:.0%} were."
            findings.append(
                Finding(f"column {name}", "suspicious", evidence, "Was it measured as before?")
            )
    return findings


def _unseen(encoding: Encoding, frame: pd.DataFrame) -> list[Finding]:
    findings = []
    for name, counts in encoding.unseen(frame).items():
        listed = ", ".join(f"{value} ({n})" for value, n in list(counts.items())[:5])
        evidence = (
            f"{sum(counts.values())} of {len(frame)} rows hold categories that did not "
            f"occur in training: {listed}."
        )
        findings.append(
            Finding(
                f"column {name}",
                "suspicious",
                evidence,
                "They were taken as none of the known ones.",
            )
        )
    for name in encoding.categories:
        absent = int(frame[name].isna().sum()) if name in frame.columns else 0
        if absent and name not in encoding.gaps:
            evidence = f"{absent} of {len(frame)} cells are empty, at training none were."
            findings.append(
                Finding(
                    f"column {name}",
                    "suspicious",
                    evidence,
                    "They were taken as none of the known categories.",
                )
            )
    return findings


def range_findings(known: tuple[float, float] | None, inputs: Any, what: str) -> list[Finding]:
    """Whether inputs go as far as those trained on: pixels that were not scaled, or were scaled
    twice, do not.
    """
    array = np.asarray(inputs) if not isinstance(inputs, tuple | dict) else np.empty(0)
    if known is None or array.ndim != PICTURES or array.dtype.kind not in "fiu" or not array.size:
        return []
    low, high = float(np.nanmin(array)), float(np.nanmax(array))
    span = known[1] - known[0]
    wider = high > known[1] + span or low < known[0] - span
    narrower = 0 < max(abs(low), abs(high)) < max(map(abs, known)) / NARROWER
    if not (span > 0 and (wider or narrower)):
        return []
    evidence = (
        f"they go from {low:.4g} to {high:.4g}, and those trained on from {known[0]:.4g} "
        f"to {known[1]:.4g}."
    )
    return [
        Finding(
            what, "wrong" if wider else "suspicious", evidence, "Prepare them as those were, once."
        )
    ]
