"""Scores of samples against brute force and closed forms."""

import numpy as np
import pytest
from scipy import linalg

import vinestep as vs

G = vs.generation


def samples(n=30, m=25, d=3, shift=0.0):
    rng = np.random.default_rng(0)
    return rng.normal(size=(n, d)), rng.normal(size=(m, d)) * 1.3 + shift


def test_the_frechet_distance_of_normal_distributions():
    rng = np.random.default_rng(0)
    a, b = rng.normal(size=(200, 2)), rng.normal(size=(200, 2)) * [2.0, 0.5] + 1
    c, d = np.cov(a, rowvar=False), np.cov(b, rowvar=False)
    middle = a.mean(axis=0) - b.mean(axis=0)
    root = np.real(linalg.sqrtm(c @ d))
    wanted = middle @ middle + np.trace(c + d - 2 * root)
    assert G.frechet_distance(a, b) == pytest.approx(wanted, rel=1e-8)


def test_discrepancies_against_their_definitions():
    x, y = samples()
    between = np.mean([np.linalg.norm(a - b) for a in x for b in y])
    within = [
        np.mean(
            [np.linalg.norm(z[i] - z[j]) for i in range(len(z)) for j in range(len(z)) if i != j]
        )
        for z in (x, y)
    ]
    assert G.energy_distance(x, y) == pytest.approx(2 * between - sum(within))

    def kernel(a, b):
        return np.exp(-np.sum((a - b) ** 2) / (2 * 1.5**2))

    inner = [
        np.mean([kernel(z[i], z[j]) for i in range(len(z)) for j in range(len(z)) if i != j])
        for z in (x, y)
    ]
    wanted = sum(inner) - 2 * np.mean([kernel(a, b) for a in x for b in y])
    assert G.maximum_mean_discrepancy(x, y, width=1.5) == pytest.approx(wanted)


def test_precision_recall_and_coverage_against_brute_force():
    x, y = samples(shift=0.8)

    def radius(z, i, k):
        return np.sort([np.linalg.norm(z[i] - other) for other in z])[k]

    precise = np.mean(
        [any(np.linalg.norm(b - a) <= radius(x, i, 3) for i, a in enumerate(x)) for b in y]
    )
    recalled = np.mean(
        [any(np.linalg.norm(a - b) <= radius(y, j, 3) for j, b in enumerate(y)) for a in x]
    )
    assert G.precision_and_recall(x, y) == (pytest.approx(precise), pytest.approx(recalled))
    near = np.mean(
        [min(np.linalg.norm(a - b) for b in y) <= radius(x, i, 5) for i, a in enumerate(x)]
    )
    assert G.coverage(x, y) == pytest.approx(near)


def test_the_two_sample_test_has_its_level_and_power():
    rng = np.random.default_rng(0)
    equal = [
        G.two_sample_test(rng.normal(size=(20, 2)), rng.normal(size=(20, 2)), seed=i).p
        for i in range(100)
    ]
    assert np.mean(np.array(equal) <= 0.05) < 0.13
    shifted = [
        G.two_sample_test(rng.normal(size=(30, 2)), rng.normal(size=(30, 2)) + 1.2).p
        for _ in range(20)
    ]
    assert np.mean(np.array(shifted) <= 0.05) > 0.8


def test_what_was_copied_lies_too_near():
    rng = np.random.default_rng(0)
    train, real, new = (rng.normal(size=(200, 3)) for _ in range(3))
    assert abs(G.data_copying(train, real, new)) < 3
    assert G.data_copying(train, real, train[:100] + 0.01) < -6
    places, distances = G.nearest_neighbours(train, train[5:8])
    assert places.tolist() == [5, 6, 7]
    assert not distances.any()


class Stub:
    """Makes rows of a list."""

    can_sample, classes = True, 0

    def __init__(self, rows):
        self.rows = rows

    def sample(self, count, *, seed=0, labels=None, **settings):
        return self.rows[np.random.default_rng(seed).integers(0, len(self.rows), count)]


def verdict_of(made, first=None):
    rng = np.random.default_rng(1)
    kinds = np.eye(4)[rng.integers(0, 4, 900)] * 5
    x = kinds + 0.3 * rng.normal(size=(900, 4))
    scores = G.SampleScores(x[:300], x[300:600], count=200)
    return G._sample_scores.sample_finding(scores(Stub(made(x))), first)


@pytest.mark.parametrize(
    ("made", "verdict", "words"),
    [
        (lambda x: x[600:], "sound", "lies among real examples"),
        (lambda x: x[600:][x[600:, 0] > 3], "suspicious", "few kinds only"),
        (lambda x: x[300:600], "suspicious", "learned by heart"),
        (
            lambda x: np.random.default_rng(0).uniform(-20, 20, (400, 4)),
            "suspicious",
            "does not look like",
        ),
    ],
)
def test_collapse_copies_and_noise_are_told_from_good_samples(made, verdict, words):
    found = verdict_of(made)
    assert found.verdict == verdict
    assert words in found.evidence


def test_features_of_a_classifier_and_labels(tmp_path):
    x = np.random.default_rng(0).normal(size=(60, 3))
    scores = G.SampleScores(x[:30], x[30:], count=20, features=lambda rows: rows[:, :2])
    found = scores(Stub(x))
    assert found["feature_distance"] >= 0
    with pytest.raises(vs.errors.SettingError, match="count must be above"):
        G.SampleScores(x, count=3)
    with pytest.raises(vs.errors.DataError, match="NaN"):
        scores.of(np.full((20, 3), np.nan))
    with pytest.raises(vs.errors.DataError, match="cannot be compared"):
        G.energy_distance(x, x[:, :2])
