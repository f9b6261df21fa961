import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import DifferentiationError


def test_a_chain_stays_in_its_column_and_branches_are_set_in():
    x, w = vs.Tensor(np.ones((5, 3)), name="x"), vs.Tensor(np.ones((3, 2)), name="weight")
    h = np.tanh(x @ w)
    text = str(vs.trail(np.sum(h * np.exp(h))))
    assert text.splitlines()[0] == "sum scalar float64"
    assert "├─ tanh 5x2 float64" in text
    assert "matmul 5x2 float64  <- parameter x 5x3 float64, parameter weight 3x2 float64" in text
    assert "as above" in text


def test_the_table_counts_each_array_once():
    x = vs.Tensor(np.ones(1000))
    h = np.exp(x)
    found = vs.trail(np.sum(h * h + h))
    assert found.bytes_held == 8000
    table = found.table()
    assert list(table) == [
        "number",
        "operation",
        "name",
        "layer",
        "shape",
        "dtype",
        "parents",
        "bytes_held",
    ]
    assert len(found) == 5


def test_layers_are_named():
    network = vs.Stack(vs.Dense(4), np.tanh, vs.Dense(2)).initialise(np.ones((3, 5)))
    table = vs.trail(np.sum(network(np.ones((3, 5))))).table()
    assert {"0", "2"} <= set(table["layer"])
    assert "0/weight" in set(table["name"])


def test_a_long_chain_prints():
    y = vs.Tensor([1.0])
    for _ in range(2000):
        y = y * 1.1
    assert len(str(vs.trail(y)).splitlines()) == 2000


def test_a_trail_of_nothing_is_refused():
    with pytest.raises(DifferentiationError, match="nothing was recorded"):
        vs.trail(np.ones(2))


@pytest.mark.parametrize("widths", [(4,), (8, 8, 8, 8), (8,) * 25])
def test_the_figure_is_drawn(widths, tmp_path):
    layers = [layer for width in widths for layer in (vs.Dense(width), np.sin)]
    network = vs.Stack(*layers, vs.Dense(3)).initialise(np.ones((5, 4)))
    loss = vs.losses.cross_entropy(network(np.ones((5, 4))), np.zeros(5, int))
    figure = vs.figures.trail(vs.trail(loss))
    assert vs.figures.save(figure, tmp_path / "trail.png").stat().st_size > 10_000
