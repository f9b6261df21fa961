"""What does it make?"""

from __future__ import annotations

from collections.abc import Iterator

from ...generation._sample_scores import sample_finding, sample_trouble
from ._answers import Answer
from ._series import Record

__all__ = ["answers"]


def answers(record: Record) -> Iterator[Answer]:
    """The answer, if the network makes examples and they were scored."""
    rows = record.generated
    if "coverage" not in rows or not len(rows):
        return
    looks = [{str(name): float(value) for name, value in rows.iloc[i].items()} for i in (0, -1)]
    found = sample_finding(looks[1], looks[0] if len(rows) > 1 else None)
    yield Answer(
        found.subject,
        found.verdict,
        found.evidence,
        found.cure,
        "generated",
        sample_trouble(looks[1]) if found.is_trouble else "",
        None,
        "",
        {name: float(rows[name].iloc[-1]) for name in ("distance", "coverage", "precision")},
    )
