"""Parameters that were changed after a record came to need them: refused however it was done, right
where nothing was changed.
"""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.errors import DifferentiationError

X = np.random.default_rng(0).normal(size=(5, 40)).astype("f4")
Y = np.zeros(5, int)


class Own(vs.Layer):
    """A layer in plain NumPy, with a parameter of several kilobytes and a small one."""

    def __init__(self, meanwhile=lambda layer: None):
        self._meanwhile = meanwhile

    def declare(self, shape):
        self.parameter("weight", (shape[-1], 60), vs.initialisers.glorot_normal)
        self.parameter("bias", (60,), vs.initialisers.zeros)

    def compute(self, x):
        y = x @ self.weight + self.bias
        if self.is_initialised:
            self._meanwhile(self)
        return y * self.weight[0]


class Keeping(vs.optimisers.SGD):
    """An optimiser of a user's own that keeps the array it was given."""

    def update(self, arena, gradients, rate):
        self.kept = arena
        super().update(arena, gradients, rate)


def fresh():
    return Own().initialise(X, seed=1)


def recorded(network):
    return np.sum(np.tanh(network(X)) ** 2)


def same(ours, theirs):
    for path, gradient in theirs.items():
        np.testing.assert_array_equal(ours[path], gradient)


def by_in_place_operator(network):
    weight = network.weight
    weight += 1.0


def by_step(network):
    vs.Training(network, loss=vs.losses.cross_entropy).step((X, Y))


def by_step_of_an_own_optimiser(network):
    training = vs.Training(network, loss=vs.losses.cross_entropy, optimiser=Keeping(0.1))
    training.step((X, Y))


def by_load(network):
    network.load({path: array + 1 for path, array in network.weights().items()})


def by_restore(network):
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    training.step((X, Y))
    training.restore(training.state())


def filled(array):
    array += 0.5


def by_asarray(network):
    with vs.untracked():
        filled(np.asarray(network.weight))


CHANGES = {
    "array": lambda n: filled(n.weight.array),
    "held": lambda n: filled(vs.held(n.weight)),
    "asarray": by_asarray,
    "weights": lambda n: filled(n.weights()["weight"]),
    "flat": lambda n: filled(n.arena.flat),
    "one number": lambda n: filled(n.weights()["weight"][3, 7:8]),
    "in place": by_in_place_operator,
    "step": by_step,
    "own optimiser": by_step_of_an_own_optimiser,
    "load": by_load,
    "restore": by_restore,
}


@pytest.mark.parametrize("how", CHANGES)
@pytest.mark.parametrize("before", [False, True], ids=["handed out after", "handed out before"])
def test_a_parameter_changed_after_its_use_is_refused(how, before):
    network = fresh()
    if before:
        network.weights()
    loss = recorded(network)
    CHANGES[how](network)
    with pytest.raises(DifferentiationError, match="changed in place after it was used"):
        vs.differentiate(loss, network)


def test_an_array_that_was_kept_long_ago_is_still_watched():
    network = fresh()
    kept = network.weights()["weight"]
    for _ in range(3):
        vs.differentiate(recorded(network), network)
    loss = recorded(network)
    kept[2, 2] += 1
    with pytest.raises(DifferentiationError, match="changed in place"):
        vs.differentiate(loss, network)
    optimiser = Keeping(0.1)
    training = vs.Training(network := fresh(), loss=vs.losses.cross_entropy, optimiser=optimiser)
    training.step((X, Y))
    loss = recorded(network)
    optimiser.kept[5] += 1
    with pytest.raises(DifferentiationError, match="changed in place"):
        vs.differentiate(loss, network)


def test_an_own_operation_may_keep_the_arrays_it_was_given():
    kept = []

    def keeping(x):
        kept.append(x)
        return np.square(x)

    doubled = vs.differentiable(adjoint=lambda g, y, x: (g * 2 * x,))(keeping)
    network = fresh()
    loss = np.sum(doubled(network.weight)) + recorded(network)
    kept[0][1, 1] = 3.0
    with pytest.raises(DifferentiationError, match="changed in place"):
        vs.differentiate(loss, network)


LOOKS = {
    "held": lambda n: vs.held(n.weight).sum(),
    "weights": lambda n: n.weights()["weight"].max(),
    "argmax": lambda n: np.argmax(n.weight),
    "repr": lambda n: repr(n.weight),
    "flat": lambda n: n.arena.flat.std(),
    "check_gradients": lambda n: vs.check_gradients(lambda net: recorded(net), n, elements=2),
    "freeze and thaw": lambda n: (n.freeze("bias"), n.thaw("bias")),
    "nothing": lambda n: None,
    "model": lambda n: vs.Model(n).arrays(),
    "state": lambda n: vs.Descent(n).state(),
}


@settings(max_examples=60)
@given(looks=st.lists(st.sampled_from(sorted(LOOKS)), max_size=4), at=st.integers(0, 4))
def test_who_only_looks_gets_the_right_gradient(looks, at):
    """Whatever is handed out before, between or after the uses of a parameter."""
    plain = fresh()
    expected = vs.differentiate(recorded(plain), plain)
    network = fresh()
    for look in looks[:at]:
        LOOKS[look](network)
    loss = recorded(network)
    for look in looks[at:]:
        LOOKS[look](network)
    same(vs.differentiate(loss, network), expected)


@pytest.mark.parametrize("how", ["array", "held", "weights", "one number", "in place"])
def test_a_layer_that_changes_its_parameter_within_a_step_is_refused(how):
    network = Own(CHANGES[how] if how != "in place" else by_in_place_operator)
    network.initialise(X, seed=1)
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    network.initialise(X, seed=1)
    before = network.arena.values.copy()
    with pytest.raises(DifferentiationError, match="changed in place after it was used"):
        training.step((X, Y))
    assert training.step_number == 0
    assert not np.array_equal(network.arena.values, before)  # by the layer, before the refusal


def test_training_in_numpy_takes_no_check_sums_of_parameters(monkeypatch):
    network = fresh()
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    training.step((X, Y))
    looked_at = []
    from vinestep.autodiff import checksums, tensor

    monkeypatch.setattr(
        tensor,
        "checksum_of",
        lambda array: looked_at.append(array.shape) or checksums.checksum_of(array),
    )
    big = np.random.default_rng(0).normal(size=(500, 40)).astype("f4")
    training.step((big, np.zeros(500, int)))
    assert set(looked_at) <= {(500, 40)}
