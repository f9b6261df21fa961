"""A layer's weights belong to one network: they are never drawn anew or shared unseen."""

import copy
import pickle

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import LayerError, SettingError

X = np.random.default_rng(0).normal(size=(6, 3)).astype(np.float32)
Y = np.arange(6) % 4


def body():
    return vs.Stack(vs.Dense(5, np.tanh), vs.BatchNorm(), vs.Dense(4))


def trained(network=None):
    network = network or body()
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    for _ in range(3):
        training.step((X, Y))
    return training


def contents(network):
    return {
        path: array.copy() for path, array in {**network.weights(), **network.statistics()}.items()
    }


def same(some, others):
    assert some.keys() == others.keys()
    for path, array in some.items():
        np.testing.assert_array_equal(array, others[path])


def test_what_becomes_of_trained_weights_in_a_new_network_has_to_be_said():
    network = trained().network
    before = contents(network)
    around = vs.Stack(network, vs.Dense(2))
    with pytest.raises(LayerError, match=r"keep_weights=True\) to keep them"):
        around.initialise(X)
    same(contents(network), before)
    around.initialise(X, keep_weights=True)
    same({f"0/{path}": a for path, a in before.items()} | own_of(around, "1/"), contents(around))


def own_of(network, begin):
    return {path: a for path, a in contents(network).items() if path.startswith(begin)}


def test_weights_are_drawn_anew_where_that_is_said():
    network = trained().network
    around = vs.Stack(copy.deepcopy(network), vs.Dense(2)).initialise(X, keep_weights=False)
    fresh = vs.Stack(body(), vs.Dense(2)).initialise(X)
    same(contents(around), contents(fresh))


@pytest.mark.parametrize("taken", [lambda n: [n[0]], lambda n: list(n[:-1]), lambda n: [n[-1]]])
def test_a_layer_of_another_network_is_refused_and_a_copy_of_it_is_not(taken):
    network = trained().network
    before = contents(network)
    sample = X if taken(network)[0] is network[0] else np.ones((2, 5))
    with pytest.raises(LayerError, match="belongs to another network"):
        vs.Stack(*taken(network), vs.Dense(2)).initialise(sample, keep_weights=True)
    other = vs.Stack(*copy.deepcopy(taken(network)), vs.Dense(2))
    other.initialise(sample, keep_weights=True)
    vs.Training(other, loss=vs.losses.cross_entropy).step((np.repeat(sample, 3, 0)[:6], Y % 2))
    same(contents(network), before)


@pytest.mark.parametrize("copied", [copy.deepcopy, lambda n: pickle.loads(pickle.dumps(n))])
def test_a_copied_network_owns_its_layers(copied):
    network = copied(trained().network)
    with pytest.raises(LayerError, match="belongs to another network"):
        vs.Stack(network[0], vs.Dense(2)).initialise(X, keep_weights=True)
    network.initialise(X)
    same(contents(network), contents(body().initialise(X)))


def test_one_layer_twice_in_one_network_is_shared():
    layer = vs.Dense(3)
    network = vs.Stack(layer, layer).initialise(X)
    assert list(network.parameters()) == ["0/weight", "0/bias"]
    network.initialise(X)


def test_a_former_owner_says_whose_part_it_is():
    training = trained()
    vs.Stack(training.network, vs.Dense(2)).initialise(X, keep_weights=True)
    for use in (
        training.network.weights,
        training.network.freeze,
        training.state,
        training.model,
        lambda: training.step((X, Y)),
        lambda: training.assess(vs.data.Dataset(X, Y).batches(3)),
    ):
        with pytest.raises(LayerError, match="part of a network|belongs to another network"):
            use()


@pytest.mark.parametrize("way", ["step", "steps", "run", "descent", "state"])
def test_training_does_not_go_on_with_a_network_initialised_anew(way):
    training = trained()
    data = vs.data.Dataset(X, Y).batches(3)
    training.network.initialise(X, seed=7)
    before = contents(training.network)
    ways = {
        "step": lambda: training.step((X, Y)),
        "steps": lambda: next(iter(training.steps(data))),
        "run": lambda: training.run(data, epochs=1),
        "descent": lambda: training.descent.step(lambda: np.sum(training.network(X) ** 2)),
        "state": training.state,
    }
    with pytest.raises(SettingError, match="initialised anew after 3 steps"):
        ways[way]()
    same(contents(training.network), before)


def test_a_sample_that_does_not_fit_leaves_the_network_as_it_was():
    network = trained().network
    before, output = contents(network), vs.held(network(X))
    with pytest.raises(vs.errors.VineStepError):
        network.initialise(np.full((2, 3), "x"))
    same(contents(network), before)
    np.testing.assert_array_equal(vs.held(network(X)), output)
    head = vs.MaxPool(2)
    with pytest.raises(vs.errors.VineStepError):
        vs.Stack(network, head).initialise(X, keep_weights=True)
    same(contents(network), before)


def test_frozen_weights_stay_frozen_in_a_new_network():
    network = trained().network
    network.freeze("0/*")
    fresh = vs.networks.with_head(network, vs.Dense(2), X)
    assert list(fresh.parameters()) == ["1/scale", "1/shift", "2/weight", "2/bias"]
    np.testing.assert_array_equal(fresh.weights()["0/weight"], network.weights()["0/weight"])


def test_a_body_with_adapters_moves_as_a_whole():
    network = vs.layers.adapted(trained().network, "0", rank=2)
    before = contents(network)
    around = vs.Stack(copy.deepcopy(network), vs.Dense(2)).initialise(X, keep_weights=True)
    same({f"0/{path}": a for path, a in before.items()}, own_of(around, "0/"))
    assert set(around.parameters()) == {
        *(f"0/{path}" for path in network.parameters()),
        "1/weight",
        "1/bias",
    }
