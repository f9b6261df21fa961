"""Weights in 8 and 4 bits: codes by their definition, products and gradients against whole weights,
adapters beside them, files.
"""

import numpy as np
import pytest
from hypothesis import given, strategies as st
from scipy.stats import norm

import vinestep as vs
from vinestep.errors import DataError, LayerError, ShapeError
from vinestep.layers import (
    adapted,
    code_values,
    merged,
    quantised,
)
from vinestep.layers._block_codes import coded
from vinestep.layers._quantised import coded_product

PAPER = [
    -1.0,
    -0.6961928009986877,
    -0.5250730514526367,
    -0.39491748809814453,
    -0.28444138169288635,
    -0.18477343022823334,
    -0.09105003625154495,
    0.0,
    0.07958029955625534,
    0.16093020141124725,
    0.24611230194568634,
    0.33791524171829224,
    0.44070982933044434,
    0.5626170039176941,
    0.7229568362236023,
    1.0,
]
"""Values of the paper's appendix E."""


def test_normal_codes_of_4_bits_are_those_of_the_paper():
    np.testing.assert_allclose(code_values(4, "normal"), PAPER, atol=1e-5)


@pytest.mark.parametrize("bits", [4, 8])
def test_codes_by_their_definition(bits):
    even = code_values(bits, "symmetric")
    assert even[0] == -1
    assert even.max() == 1
    assert 0 in even
    np.testing.assert_allclose(np.diff(even[:-1]), 1 / (2 ** (bits - 1) - 1), rtol=1e-9)
    normal = code_values(bits, "normal")
    assert len(normal) == 2**bits
    assert normal[0] == -1
    assert normal[-1] == 1
    assert 0 in normal
    positive = normal[normal >= 0]
    np.testing.assert_allclose(np.diff(norm.cdf(positive * norm.ppf(norm.cdf(1)))) > 0, True)


@given(
    st.integers(1, 70),
    st.integers(1, 40),
    st.sampled_from([4, 8]),
    st.sampled_from(["normal", "symmetric"]),
    st.sampled_from([2, 16, 64]),
    st.booleans(),
    st.integers(0, 10_000),
)
def test_each_value_is_held_as_the_nearest_of_its_block(
    n_in, n_out, bits, form, block, double, seed
):
    weight = np.random.default_rng(seed).normal(size=(n_in, n_out)).astype(np.float32)
    held = coded(weight, bits=bits, form=form, block=block, double=double)
    values, scales = code_values(bits, form), held.plain_scales()
    found = held.decoded()
    assert found.shape == weight.shape
    for o in range(n_out):
        for first in range(0, n_in, block):
            here, scale = weight[first : first + block, o], scales[o, first // block]
            if not double:
                np.testing.assert_allclose(scale, np.abs(here).max(), rtol=1e-6)
            nearest = values[np.abs(values[None, :] * scale - here[:, None]).argmin(axis=1)] * scale
            np.testing.assert_allclose(
                np.abs(found[first : first + block, o] - here), np.abs(nearest - here), atol=2e-6
            )


@given(
    st.integers(0, 40),
    st.integers(1, 320),
    st.integers(1, 320),
    st.sampled_from([4, 8]),
    st.booleans(),
    st.integers(0, 10_000),
)
def test_products_both_ways_are_those_with_the_whole_weight(n, n_in, n_out, bits, transposed, seed):
    rng = np.random.default_rng(seed)
    for dtype, tolerance in ((np.float32, 2e-4), (np.float64, 1e-10)):
        held = coded(rng.normal(size=(n_in, n_out)), bits=bits, form="normal", block=16)
        plain = held.decoded(dtype).T if transposed else held.decoded(dtype)
        x, bias = (
            rng.normal(size=(n, plain.shape[0])).astype(dtype),
            rng.normal(size=plain.shape[1]).astype(dtype),
        )
        found = coded_product(x, bias, weight=held, transposed=transposed)
        np.testing.assert_allclose(found, x @ plain + bias, atol=tolerance)
        assert found.dtype == dtype


def test_gradients_through_them_are_those_of_the_definition():
    rng = np.random.default_rng(4)
    held = coded(rng.normal(size=(40, 30)), block=16)
    x, bias = rng.normal(size=(9, 40)), rng.normal(size=30)
    for transposed, inputs in (
        (False, (x, bias)),
        (True, (rng.normal(size=(9, 30)), rng.normal(size=40))),
    ):

        def total(a, b, transposed=transposed):
            return np.sum(np.tanh(coded_product(a, b, weight=held, transposed=transposed)))

        vs.check_gradients(total, *inputs).raise_if_wrong()
    hessian = vs.hessian_of(lambda a: np.sum(np.tanh(coded_product(a, bias, weight=held))))(x[:1])
    plain = vs.hessian_of(lambda a: np.sum(np.tanh(a @ held.decoded(np.float64) + bias)))(x[:1])
    np.testing.assert_allclose(hessian, plain, atol=1e-10)


def test_the_memory_is_what_the_arithmetic_says():
    weight = np.random.default_rng(0).normal(size=(1024, 1024))
    for bits, double, wanted in (
        (4, True, 4 + 8 / 64 + 64 / (64 * 256)),
        (4, False, 4 + 32 / 64),
        (8, True, 8 + 8 / 64 + 64 / (64 * 256)),
    ):
        held = coded(weight, bits=bits, double=double)
        assert held.n_bytes * 8 == wanted * weight.size
    assert coded(weight).n_bytes < 0.16 * weight.astype(np.float32).nbytes


def test_what_is_lost_of_normal_weights():
    weight = np.random.default_rng(0).normal(size=(512, 256))

    def lost_by(bits, form):
        return np.sqrt(np.mean((coded(weight, bits=bits, form=form).decoded() - weight) ** 2))

    lost = {
        (bits, form): lost_by(bits, form) for bits in (4, 8) for form in ("normal", "symmetric")
    }
    assert lost[4, "normal"] < 0.095 < lost[4, "symmetric"] < 0.115
    assert max(lost[8, "normal"], lost[8, "symmetric"]) < 0.015


IDS = np.random.default_rng(0).integers(0, 15, (6, 9))


def base(tied=False, seed=0):
    network = vs.networks.LanguageModel(15, width=32, depth=2, heads=2, tied=tied)
    return network.initialise(np.array([[1, 2, 3]]), seed=seed)


def train(network, steps=10):
    training = vs.Training(
        network, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.Adam(0.02), seed=1
    )
    return [training.step((IDS[:, :-1], IDS[:, 1:])).loss for _ in range(steps)]


def decoded(network):
    """The same network with the values of the codes as plain weights."""
    return merged(adapted(network, rank=1))


@pytest.mark.parametrize("tied", [False, True])
@pytest.mark.parametrize("bits", [4, 8])
def test_a_network_in_codes_computes_with_their_values_and_writes_the_same(bits, tied):
    network = base(tied)
    small = quantised(network, bits=bits, block=16)
    plain = decoded(small)
    np.testing.assert_allclose(small(IDS).array, plain(IDS).array, atol=1e-4)
    assert np.abs(small(IDS).array - network(IDS).array).max() < (0.5 if bits == 8 else 3)
    assert vs.generate(small, [1, 2], most=6).tokens == vs.generate(plain, [1, 2], most=6).tokens
    assert not any("weight" in path and "norm" not in path for path in small.parameters())


@pytest.mark.parametrize("tied", [False, True])
def test_adapters_beside_codes_train_and_the_codes_do_not_change(tied, tmp_path):
    small = adapted(quantised(base(tied), block=16), rank=4)
    before = {path: array.copy() for path, array in small.statistics().items()}
    losses = train(small, 30)
    assert losses[-1] < 0.8 * losses[0]
    assert set(small.parameters()) == {
        path for path in small.weights() if path.endswith(("/down", "/up"))
    }
    for path, array in before.items():
        np.testing.assert_array_equal(small.statistics()[path], array)
    whole = merged(small)
    np.testing.assert_allclose(whole(IDS).array, small(IDS).array, atol=1e-4)
    assert set(whole.weights()) == set(base(tied).weights())

    file = vs.Model(small).save(tmp_path / "small.vine")
    again = vs.open_model(file).network
    np.testing.assert_array_equal(again(IDS).array, small(IDS).array)
    assert set(again.parameters()) == set(small.parameters())


def test_a_run_beside_codes_resumes_to_equal_bits(tmp_path):
    class Halt(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 5:
                run.stop("told to", resumable=True)

    def run(halting=False, **more):
        network = adapted(quantised(base(), block=16), "blocks/*", rank=2, dropout=0.2)
        training = vs.Training(network, loss=vs.losses.cross_entropy, seed=1)
        data = vs.data.Dataset(IDS[:, :-1], IDS[:, 1:])
        outcome = training.run(
            data.batches(2), epochs=4, observers=[Halt()] if halting else [], **more
        )
        return outcome, network

    _, whole = run(record=tmp_path)
    stopped, _ = run(True, record=tmp_path)
    _, rest = run(resume=stopped.folder)
    for path, w in whole.weights().items():
        np.testing.assert_array_equal(rest.weights()[path], w)
    states = sorted((tmp_path).rglob("*.vine")) or sorted(tmp_path.rglob("states/*"))
    np.testing.assert_array_equal(vs.open_model(states[-1]).network(IDS).shape, whole(IDS).shape)


def test_bad_input_is_refused_in_words():
    with pytest.raises(LayerError, match="bits must be 4 or 8"):
        quantised(base(), bits=5)
    with pytest.raises(LayerError, match="block must be an even"):
        quantised(base(), block=7)
    with pytest.raises(
        LayerError, match="quantised: no layer of kind Dense or Embedding matches 'bloks"
    ):
        quantised(base(), "bloks/*")
    small = quantised(base())
    with pytest.raises(DataError, match="embedding .*token 99 at .* is out of range"):
        small(np.array([[1, 99]]))
    with pytest.raises(ShapeError, match="the weight has shape"):
        coded_product(np.ones((2, 3)), np.ones(4), weight=coded(np.ones((5, 4))))


@pytest.mark.parametrize("bits", [4, 8])
def test_one_large_scale_does_not_take_the_others_along(bits):
    rng = np.random.default_rng(0)
    weight = rng.normal(0, 0.02, (256, 64)).astype(np.float32)
    plain = np.abs(coded(weight, bits=bits, double=False).decoded() - weight)
    weight[3, 5] = 1000.0
    spoilt = np.abs(coded(weight, bits=bits).decoded() - weight)
    elsewhere = np.ones(weight.shape, bool)
    elsewhere[:64, 5] = False
    assert spoilt[elsewhere].max() < 1.5 * plain.max()
