"""Figures take what the library gives."""

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import DataError


@pytest.fixture(scope="module")
def outcome():
    data = vs.data.Dataset(np.random.default_rng(0).normal(size=(24, 3)), np.arange(24) % 2)
    training = vs.Training(
        vs.Dense(2),
        loss=vs.losses.cross_entropy,
        metrics=[vs.metrics.perplexity, vs.metrics.accuracy],
    )
    return training.run(
        data.batches(8),
        validation=vs.data.Dataset(np.ones((4, 3)), np.arange(4) % 2).batches(4),
        epochs=4,
    )


def test_curves_take_rows_or_a_table(outcome):
    drawn = [
        vs.figures.curves(rows, better=outcome.better) for rows in (outcome.rows, outcome.curves)
    ]
    titles = [
        [text.get_text() for axis in made.axes[:-1] for text in axis.get_legend().get_texts()]
        for made in drawn
    ]
    assert titles[0] == titles[1]
    best = outcome.best("validation_perplexity")
    assert f"best {best['validation_perplexity']:.4g}, epoch {best['epoch']}" in titles[0]
    with pytest.raises(DataError, match="nothing to draw"):
        vs.figures.curves([])


def test_curves_of_figures_beyond_any_axis(tmp_path):
    rows = [
        {"epoch": e, "step": e, "rate": 0.1, "loss": loss}
        for e, loss in ((1, 1e308), (2, 3.0), (3, float("nan")))
    ]
    vs.figures.save(vs.figures.curves(rows), tmp_path / "curves.png")


def test_a_trail_takes_a_value_or_its_trail():
    y = np.sum(np.exp(vs.Tensor([1.0, 2.0])))
    assert vs.figures.trail(vs.trail(y)).get_suptitle().startswith("Trail of")
