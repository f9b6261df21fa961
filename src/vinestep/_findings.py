"""Findings: what the library notices about data, before, during and after a run, and at
prediction.
"""

from __future__ import annotations

import logging
import warnings
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Any, Literal

from ._public_names import own_names

__all__ = ["Finding", "tell", "warn_of", "worst"]

log = logging.getLogger("vinestep")

Verdict = Literal["sound", "not tested", "unclear", "suspicious", "wrong"]
VERDICTS: tuple[Verdict, ...] = ("sound", "not tested", "unclear", "suspicious", "wrong")
"""Sound is what was tested, with enough evidence to have found it otherwise; unclear is what was
tested with too little; suspicious and wrong are troubles.
"""
TROUBLES: tuple[Verdict, ...] = ("suspicious", "wrong")


@dataclass(frozen=True, slots=True)
class Finding:
    """Something that was looked at, and what came of it.

    Examples
    --------
    >>> finding = Finding(
    ...     "column pH",
    ...     "suspicious",
    ...     "7 of 40 rows lie outside 2.9 to 4.1, the range trained on.",
    ...     "Check the unit.",
    ... )
    >>> print(finding)
    suspicious: column pH: 7 of 40 rows lie outside 2.9 to 4.1, the range trained on. Check the unit.
    """  # noqa: E501

    subject: str
    """What was looked at."""
    verdict: Verdict
    evidence: str
    """What was seen, in figures."""
    cure: str = ""
    """What to do about it."""

    @property
    def is_trouble(self) -> bool:
        """Whether it is suspicious or wrong."""
        return self.verdict in TROUBLES

    def __str__(self) -> str:
        return f"{self.verdict}: {self.subject}: {self.evidence} {self.cure}".rstrip()

    def _repr_html_(self) -> str:
        from ._notebook_html import html_findings

        return html_findings([self])

    def as_dict(self) -> dict[str, Any]:
        """As JSON can hold it."""
        return asdict(self)


def tell(findings: Iterable[Finding]) -> None:
    """Log troubles as warnings.

    Examples
    --------
    >>> tell([Finding("the columns", "sound", "as at training")])
    """
    for finding in findings:
        if finding.is_trouble:
            log.warning("%s", finding)


def warn_of(
    finding: Finding, category: type[Warning] = UserWarning, *, stacklevel: int = 2
) -> None:
    """Tell a finding as a Python warning, for code that is no run.

    Examples
    --------
    >>> import warnings
    >>> with warnings.catch_warnings(record=True) as caught:
    ...     warnings.simplefilter("always")
    ...     warn_of(Finding("the targets", "suspicious", "all of one class."))
    >>> str(caught[0].message)
    'suspicious: the targets: all of one class.'
    """
    warnings.warn(str(finding), category, stacklevel=stacklevel + 1)


def worst(findings: Iterable[Finding]) -> Verdict:
    """The worst verdict among findings; sound if there are none.

    Examples
    --------
    >>> worst([Finding("a", "sound", "fine"), Finding("b", "wrong", "empty")])
    'wrong'
    """
    return max((finding.verdict for finding in findings), key=VERDICTS.index, default="sound")


__getattr__, __dir__ = own_names(__name__, __all__)
