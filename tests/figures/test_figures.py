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


def test_figures_of_what_mattered_refuse_what_does_not_fit():
    figures = vs.figures
    with pytest.raises(DataError, match="one value for each time"):
        figures.sequence_overlay(np.ones((2, 5, 1)), np.ones((2, 4)))
    with pytest.raises(DataError, match="one value for each pixel"):
        figures.overlay(np.ones((2, 5, 5)), {"slope": np.ones((2, 4, 5))})
    with pytest.raises(DataError, match=r"shape \(heads, places, places\)"):
        figures.attention({"0": np.ones((3, 3))})
    with pytest.raises(DataError, match=r"shape \(height, width, channels\)"):
        figures.feature_maps({})
    with pytest.raises(DataError, match=r"points are \(n, 2\)"):
        figures.example_map({"a": np.zeros((3, 2)), "b": np.zeros((3, 3))})


def test_probabilities_and_numbers_stand_on_axes_of_their_own():
    import pandas as pd

    found = pd.DataFrame(
        {"pH": [3.0, 3.5], "probability sound": [0.2, 0.9], "sugar predicted": [9.0, 4.0]}
    )
    made = vs.figures.dependence([found, found])
    assert len(made.axes) == 4
    lines = [[line.get_label() for line in axis.get_lines()] for axis in made.axes]
    assert lines == [["probability sound"]] * 2 + [["sugar predicted"]] * 2
    tokens = ["old", "vines", "."]
    drawn = vs.figures.attention({"0": np.ones((2, 3, 3)) / 3}, labels=(tokens, tokens))
    assert [text.get_text() for text in drawn.axes[0].get_xticklabels()] == tokens
    channels = np.zeros((4, 4, 3))
    channels[..., 2] = np.arange(16).reshape(4, 4)
    maps = vs.figures.feature_maps({"1": channels})
    assert maps.axes[1].get_title() == "channel 2"
