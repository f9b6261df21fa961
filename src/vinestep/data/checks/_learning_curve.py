"""Score against the amount of data: is more worth gathering?"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from ...errors import DataError

if TYPE_CHECKING:
    import pandas as pd

    from ..sources._source import Source

__all__ = ["learning_curve"]


def learning_curve(
    train: Source,
    score: Callable[[Any], float],
    *,
    shares: Sequence[float] = (0.1, 0.2, 0.4, 0.7, 1.0),
    repeats: int = 1,
    seed: int = 0,
    stratified: bool = False,
) -> pd.DataFrame:
    """The score that is reached with parts of the training data.

    Parameters
    ----------
    train : Source
    score : callable
        ``score(part)`` trains on a part and returns the score on data that are always the same.
    shares : sequence of float
        Of the whole.
    repeats : int
        With other parts of each size.
    seed : int
    stratified : bool

    Returns
    -------
    curve : DataFrame
        Columns ``examples``, ``repeat``, ``score``.

    Examples
    --------
    >>> data = vs.data.Dataset(np.arange(20.0)[:, None], np.arange(20))
    >>> learning_curve(data, len, shares=(0.5, 1.0))["score"].tolist()
    [10.0, 20.0]
    """
    import pandas as pd

    if not shares or not all(0 < share <= 1 for share in shares) or repeats < 1:
        raise DataError(
            "learning_curve: shares lie above 0 and up to 1, and there is one repeat at least; "
            f"got {list(shares)}, {repeats}."
        )
    rows = []
    for share in sorted(shares):
        for repeat in range(repeats if share < 1 else 1):
            part = (
                train
                if share == 1
                else train.split(share, seed=seed + repeat, stratified=stratified)[0]
            )
            rows.append({"examples": len(part), "repeat": repeat + 1, "score": float(score(part))})
    return pd.DataFrame(rows)
