"""Whether the inputs of two parts, taken together, come from one distribution."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..._findings import Finding
from ._permutation_test import PermutationTest, features_of, permutation_test, subsample
from ._stage import Stage

__all__ = ["covariate_shift"]

LEAST, MOST = 30, 400  # examples of a part
LEVEL = 0.005
FAR = 0.3  # correlation
AS_FAR = 0.5  # of it: examples of one part that lie so far apart explain it


def covariate_shift(stage: Stage) -> Iterator[Finding]:
    """A classifier two-sample test: whether quick models tell examples of the two parts apart,
    held against the same with the parts dealt out at random.

    It sees what columns one by one do not show: columns that changed places, or belong to other
    rows. Examples that follow one another in time are no random draws; so the last of the training
    part are held against its others in the same way. D. Lopez-Paz and M. Oquab, "Revisiting
    Classifier Two-Sample Tests", ICLR 2017.
    """
    if stage.other is None:
        return
    subject = "the inputs of both parts"
    found = features_of(stage.sample, stage.validation_sample)
    if found is None:
        said = "the quick model takes no inputs of this kind."
        yield Finding(subject, "not tested", said, "See that both parts were drawn alike.")
        return
    ours, theirs = found
    if min(len(ours), len(theirs)) < LEAST:
        said = f"{min(len(ours), len(theirs))} examples are too few to tell parts apart."
        yield Finding(subject, "unclear", said, f"At least {LEAST} of each are needed.")
        return
    between = _two_sample_test(ours, theirs)
    words = (
        f"answers of a quick model to which part an example belongs correlate "
        f"{between.correlation:.2f} with the truth, for {between.examples} examples, and "
        f"{between.by_chance:.2f} at most (99 %) where parts are dealt out at random"
    )
    if between.p > LEVEL:
        yield Finding(subject, "sound", f"neither can be told from the other: {words}.")
        return
    last = max(LEAST, len(ours) // 5)
    within = _two_sample_test(ours[:-last], ours[-last:]) if len(ours) >= 2 * last else None
    told = "examples of the validation part can be told from those of training"
    if within is not None and within.correlation > AS_FAR * between.correlation:
        said = (
            f"{told}, and so can the last of those from the ones before "
            f"({within.correlation:.2f}), as where examples follow one another: {words}."
        )
        cure = "The validation loss tells whether what is learned holds later."
        yield Finding(subject, "unclear", said, cure)
    elif between.correlation > FAR:
        cure = (
            "See that both parts have the same columns in the same order and unit, and were "
            "drawn alike."
        )
        yield Finding(subject, "suspicious", f"{told}: {words}.", cure)
    else:
        cure = "See that both parts were drawn alike."
        yield Finding(subject, "unclear", f"{told}, if not by much: {words}.", cure)


def _two_sample_test(first: np.ndarray, second: np.ndarray) -> PermutationTest:
    parts = [rows[subsample(len(rows), MOST)] for rows in (first, second)]
    belongs = np.repeat([0.0, 1.0], [len(rows) for rows in parts])
    return permutation_test(np.concatenate(parts), belongs[:, None])
