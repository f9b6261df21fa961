"""Convolution, pooling and their kin against SciPy, against their adjoint relations, and against
differences.
"""

import numpy as np
import pytest
from scipy import signal

import vinestep as vs
from vinestep.errors import LayerError, ShapeError
from vinestep.training.step._state import split_state


def convolution(x, **options):
    return vs.Convolution(
        options.pop("channels", 3), options.pop("window", 3), **options
    ).initialise(x, dtype=float)


@pytest.mark.parametrize("ndim", [1, 2, 3])
@pytest.mark.parametrize("stride", [1, 2])
def test_valid_convolution_is_scipys_correlation(ndim, stride, rng):
    x = rng.normal(size=(2, *(7, 6, 5)[:ndim], 2))
    layer = convolution(x, padding="valid", stride=stride)
    weight = layer.weights()["weight"]
    layer.weights()["bias"][...] = [0.5, -1.0, 2.0]
    y = vs.held(layer(x))
    for example in range(2):
        for out in range(3):
            total = sum(
                signal.correlate(x[example, ..., c], weight[..., c, out], mode="valid")
                for c in range(2)
            )
            expected = total[(slice(None, None, stride),) * ndim] + [0.5, -1.0, 2.0][out]
            np.testing.assert_allclose(y[example, ..., out], expected, rtol=1e-10)


def test_same_padding_is_scipys_same_for_odd_windows(rng):
    x = rng.normal(size=(1, 9, 8, 1))
    layer = convolution(x, channels=1, window=(3, 5))
    expected = signal.correlate(x[0, ..., 0], layer.weights()["weight"][..., 0, 0], mode="same")
    np.testing.assert_allclose(vs.held(layer(x))[0, ..., 0], expected, rtol=1e-10)


@pytest.mark.parametrize(
    ("n", "window", "stride", "expected"), [(7, 3, 2, 4), (8, 3, 2, 4), (5, 2, 1, 5), (5, 4, 3, 2)]
)
def test_same_padding_gives_the_length_over_the_stride_rounded_up(n, window, stride, expected, rng):
    x = rng.normal(size=(1, n, 1))
    assert convolution(x, window=window, stride=stride)(x).shape == (1, expected, 3)


def test_dilation_is_a_window_with_holes(rng):
    x = rng.normal(size=(1, 12, 2))
    layer = convolution(x, padding="valid", dilation=3)
    weight = layer.weights()["weight"]
    holes = np.zeros((7, 2, 3))
    holes[::3] = weight
    plain = convolution(x, window=7, padding="valid")
    plain.load({"weight": holes}, partial=True)
    np.testing.assert_allclose(vs.held(layer(x)), vs.held(plain(x)), rtol=1e-10)


@pytest.mark.parametrize("groups", [2, 4])
def test_groups_do_not_see_each_other(groups, rng):
    x = rng.normal(size=(2, 6, 5, 4))
    layer = convolution(x, channels=8, groups=groups)
    whole = vs.held(layer(x))
    for g in range(groups):
        own, out = (
            slice(g * 4 // groups, (g + 1) * 4 // groups),
            slice(g * 8 // groups, (g + 1) * 8 // groups),
        )
        part = convolution(x[..., own], channels=8 // groups)
        part.load({"weight": layer.weights()["weight"][..., out]}, partial=True)
        np.testing.assert_allclose(vs.held(part(x[..., own])), whole[..., out], rtol=1e-10)


LAYERS = {
    "convolution": lambda: vs.Convolution(3, 3),
    "strided": lambda: vs.Convolution(2, (3, 2), stride=2, padding=1, activation=np.tanh),
    "dilated, uneven padding": lambda: vs.Convolution(2, 2, dilation=2, padding=((2, 0), (0, 1))),
    "pointwise": lambda: vs.Convolution(3, 1),
    "grouped": lambda: vs.Convolution(4, 3, groups=2),
    "depthwise": lambda: vs.Convolution(8, 3, groups=4, stride=2),
    "transposed": lambda: vs.TransposedConvolution(2, 3, stride=2),
    "transposed, valid": lambda: vs.TransposedConvolution(
        2, (2, 3), stride=(1, 2), padding="valid"
    ),
    "max pool": lambda: vs.MaxPool(2),
    "max pool, overlapping": lambda: vs.MaxPool(3, stride=2, padding="same"),
    "parametric relu": lambda: vs.ParametricRelu(0.3),
    "mean pool": lambda: vs.MeanPool(2, padding="same"),
    "global mean": lambda: vs.GlobalMean(),
    "global max": lambda: vs.GlobalMax(),
    "upsample": lambda: vs.Upsample((2, 3)),
    "upsample, linear": lambda: vs.Upsample(2, how="linear"),
    "flatten": lambda: vs.Flatten(),
    "reshape": lambda: vs.Reshape((10, -1)),
    "batch norm": lambda: vs.BatchNorm(),
    "layer norm": lambda: vs.LayerNorm(),
    "group norm": lambda: vs.GroupNorm(2),
    "rms norm": lambda: vs.RMSNorm(),
    "dropout of channels": lambda: vs.Dropout(0.4, whole_channels=True),
    "noise": lambda: vs.Noise(0.1),
}


@pytest.mark.parametrize("learning", [True, False])
@pytest.mark.parametrize("name", list(LAYERS))
def test_derivatives_of_first_and_second_order(name, learning, rng):
    x = rng.permutation(2 * 5 * 4 * 4).reshape(2, 5, 4, 4) * 0.1 + rng.uniform(
        0, 0.02, (2, 5, 4, 4)
    )
    network = vs.Stack(LAYERS[name]()).initialise(x, dtype=float, seed=1)
    weights = rng.normal(size=np.shape(vs.held(network(x))))

    def value(net, x):
        if not learning:
            return np.sum(net(x) * weights)
        with vs.learning(seed=2, step=3):
            return np.sum(net(x) * weights)

    if network.parameters():
        vs.check_gradients(value, network, x, tolerance=1e-7, elements=60).raise_if_wrong()
    else:
        vs.check_gradients(
            lambda x: value(network, x), x, tolerance=1e-7, elements=60
        ).raise_if_wrong()
    slope = vs.gradient_of(lambda x: value(network, x) ** 2)
    vs.check_gradients(
        lambda x: np.sum(slope(x) * x), x, tolerance=1e-4, elements=15
    ).raise_if_wrong()


def test_transposed_convolution_is_the_adjoint_of_the_convolution(rng):
    x = rng.normal(size=(2, 9, 7, 3))
    forward = convolution(x, channels=4, stride=2, padding="valid")
    y = rng.normal(size=vs.held(forward(x)).shape)
    back = vs.TransposedConvolution(3, 3, stride=2, padding="valid").initialise(y, dtype=float)
    back.load({"weight": np.swapaxes(forward.weights()["weight"], -1, -2).copy()}, partial=True)
    ours, theirs = vs.held(back(y)), vs.held(forward(x))
    assert np.sum(theirs * y) == pytest.approx(
        np.sum(x[:, : ours.shape[1], : ours.shape[2]] * ours)
    )


def test_pooling_by_loops(rng):
    x = rng.normal(size=(2, 7, 6, 3))
    best, mean = (
        vs.held(p.initialise(x, dtype=float)(x))
        for p in (vs.MaxPool(3, stride=2), vs.MeanPool(3, stride=2))
    )
    for i in range(3):
        for j in range(2):
            window = x[:, 2 * i : 2 * i + 3, 2 * j : 2 * j + 3]
            np.testing.assert_allclose(best[:, i, j], window.max(axis=(1, 2)))
            np.testing.assert_allclose(mean[:, i, j], window.mean(axis=(1, 2)))


def test_equal_largest_values_share_the_derivative():
    x = vs.Tensor(np.array([[[1.0], [1.0], [0.0], [2.0]]]))
    layer = vs.MaxPool(2).initialise(np.ones((1, 4, 1)), dtype=float)
    np.testing.assert_array_equal(vs.differentiate(np.sum(layer(x)), x).ravel(), [0.5, 0.5, 0, 1])


def test_batch_norm_statistics(rng):
    layer = vs.BatchNorm(momentum=0.5).initialise(np.ones((1, 2)), dtype=float)
    batches = [rng.normal(3, 2, size=(10, 2)) for _ in range(2)] + [rng.normal(50, 2, size=(2, 2))]
    with vs.learning():
        for batch in batches:
            y = vs.held(layer(batch))
            np.testing.assert_allclose(y.mean(axis=0), 0, atol=1e-9)
    first = (batches[0].mean(axis=0) + batches[1].mean(axis=0)) / 2
    np.testing.assert_allclose(layer.mean, first + 0.5 * 0.2 * (batches[2].mean(axis=0) - first))
    expected = (batches[0] - layer.mean) / np.sqrt(layer.variance + 1e-5)
    np.testing.assert_allclose(vs.held(layer(batches[0])), expected)
    with vs.learning(), pytest.raises(ShapeError, match="one value a channel has no variance"):
        layer(np.ones((1, 2)))


def test_batch_norm_statistics_are_saved_and_resumed(tmp_path, rng):
    data = vs.data.Dataset(rng.normal(size=(40, 3)).astype(np.float32), rng.integers(0, 2, 40))

    def training():
        return vs.Training(
            vs.Stack(vs.Dense(4), vs.BatchNorm(), np.tanh, vs.Dense(2)),
            loss=vs.losses.cross_entropy,
        )

    class Stop(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 6:
                run.stop("enough", resumable=True)

    whole, part, again = training(), training(), training()
    whole.run(data.batches(10), epochs=3)
    folder = part.run(data.batches(10), epochs=3, observers=[Stop()], record=tmp_path).folder
    again.run(data.batches(10), epochs=3, resume=folder)
    expected, found = split_state(whole.state())[0], split_state(again.state())[0]
    assert all(np.array_equal(a, found[k]) for k, a in expected.items())
    assert "statistics/1/mean" in expected


def test_norms_by_their_definitions(rng):
    x = rng.normal(2, 3, size=(3, 5, 4))
    layer = vs.LayerNorm().initialise(x, dtype=float)
    expected = (x - x.mean(axis=-1, keepdims=True)) / np.sqrt(x.var(axis=-1, keepdims=True) + 1e-5)
    np.testing.assert_allclose(vs.held(layer(x)), expected, rtol=1e-10)
    group = vs.held(vs.GroupNorm(2).initialise(x, dtype=float)(x))
    parts = x.reshape(3, 5, 2, 2)
    expected = (parts - parts.mean(axis=(1, 3), keepdims=True)) / np.sqrt(
        parts.var(axis=(1, 3), keepdims=True) + 1e-5
    )
    np.testing.assert_allclose(group, expected.reshape(x.shape), rtol=1e-10)


@pytest.mark.parametrize(
    ("layer", "shape", "error", "text"),
    [
        (
            vs.Convolution(3, 3),
            (2, 5),
            ShapeError,
            r"0 .Convolution.: expected input of shape .*x\[..., None\]",
        ),
        (
            vs.Convolution(3, 7, padding="valid"),
            (2, 5, 1),
            ShapeError,
            "0 .Convolution.: a window of 7 is larger than the input",
        ),
        (
            vs.Convolution(3, 3, groups=2),
            (2, 5, 3),
            LayerError,
            "2 groups do not divide 3 channels in and 3 out",
        ),
        (vs.Convolution(3, (3, 3)), (2, 5, 3), LayerError, "or 1 of them, one a spatial axis"),
        (vs.Convolution(3, 3, padding="some"), (2, 5, 3), LayerError, 'padding is "same", "valid"'),
        (vs.MaxPool(9), (2, 5, 3), ShapeError, "a window of 9 is larger than the input"),
        (vs.MaxPool(2, padding=2), (2, 5, 3), LayerError, "some windows would see nothing"),
        (vs.GlobalMean(), (2, 5), ShapeError, "at least one axis between"),
        (vs.GroupNorm(3), (2, 5, 4), LayerError, "3 groups do not divide 4 channels"),
        (
            vs.Reshape((2, 3)),
            (2, 5),
            ShapeError,
            r"5 values an example, of shape \(5,\), do not make \(2, 3\)",
        ),
    ],
)
def test_wrong_shapes_are_explained_with_the_path(layer, shape, error, text):
    with pytest.raises(error, match=text):
        vs.Stack(layer).initialise(np.ones(shape))


@pytest.mark.parametrize(
    "layer", [vs.Convolution(3, 3), vs.BatchNorm(), vs.LayerNorm(), vs.TransposedConvolution(2, 2)]
)
def test_another_number_of_channels_is_refused_later_too(layer):
    network = vs.Stack(vs.Stack(layer)).initialise(np.ones((2, 5, 4)))
    with pytest.raises(ShapeError, match=rf"0/0 \({type(layer).__name__}\): expected"):
        network(np.ones((2, 5, 7)))


def test_parametric_relu_is_the_formula_of_the_paper(rng):
    x = rng.normal(size=(5, 4, 3))
    layer = vs.ParametricRelu().initialise(x, dtype=float)
    layer.slope.array[:] = slopes = np.array([0.1, 0.0, -2.0])
    np.testing.assert_allclose(vs.held(layer(x)), np.maximum(x, 0) + slopes * np.minimum(x, 0))
    with pytest.raises(
        ShapeError, match=r"expected input of shape \(batch, ..., 3\), got \(5, 4, 2\)"
    ):
        layer(x[..., :2])
