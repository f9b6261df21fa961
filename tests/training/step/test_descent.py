"""Two networks that train in turn: as a plain loop, as a recorded run, and killed in the middle and
continued.
"""

import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import (
    ArchiveError,
    DifferentiationError,
    NotFiniteError,
    SettingError,
)
from vinestep.training import MemoryStore
from vinestep.training.step._state import joined_state, split_state

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

from two_networks import make, one_step  # noqa: E402  # a program beside this file


def plain(steps=30):
    parts = make()
    return parts, [one_step(*parts) for _ in range(steps)]


def flat(parts):
    return [split_state(part.state()) for part in parts]


def same(ours, theirs):
    return all(
        a.keys() == b.keys() and all(np.array_equal(a[k], b[k]) for k in a) and x == y
        for (a, x), (b, y) in zip(ours, theirs, strict=True)
    )


def test_both_learn():
    (_, generator, noise), _ = plain(300)
    made = vs.held(generator.network(noise.rng.normal(size=(400, 2)).astype(np.float32)))
    assert abs(np.linalg.norm(made, axis=1).mean() - 1) < 0.3


def test_as_a_recorded_run_it_is_the_same():
    parts, figures = plain()
    again = dict(zip(("critic", "generator", "noise"), make(), strict=True))
    store = MemoryStore()
    with vs.recorded_run(again, steps=30, record=store) as run:
        for _ in run.steps():
            critic, generator = one_step(**again)
            run.numbers(critic=critic, generator=generator)
    assert same(flat(parts), flat(again.values()))
    assert [(row["critic"], row["generator"]) for row in store.read_series("steps")] == figures
    assert store.read_status()["status"] == "finished"


def child(root, resume="-", kill=0):
    return subprocess.run(
        [sys.executable, str(HERE / "two_networks.py"), str(root), str(resume), str(kill)],
        capture_output=True,
        text=True,
        check=False,
    )


@pytest.mark.parametrize(
    "kill", [13, *(pytest.param(at, marks=pytest.mark.slow) for at in (1, 29))]
)
def test_killed_in_the_middle_and_continued_it_ends_with_equal_bits(tmp_path, kill):
    parts, figures = plain()
    assert child(tmp_path, kill=kill).returncode == -signal.SIGKILL
    folder = vs.runs.RunFolder(tmp_path / "points-1")
    assert folder.read_status()["status"] == "interrupted"
    done = child(tmp_path, resume=folder.path)
    assert done.returncode == 0, done.stderr[-800:]
    state, refused = folder.newest_state()
    assert not refused
    arrays = {}
    for name, part in zip(("critic", "generator", "noise"), parts, strict=True):
        arrays |= split_state(part.state(), f"{name}/")[0]
        assert state.meta["parts"][name] == split_state(part.state())[1]
    assert arrays.keys() == state.arrays.keys()
    assert all(np.array_equal(arrays[name], state.arrays[name]) for name in arrays)
    assert [(row["critic"], row["generator"]) for row in folder.read_series("steps")] == figures


def test_other_parts_or_another_network_are_refused(tmp_path):
    line = vs.Descent(vs.Dense(1).initialise(np.ones((1, 2))))
    with vs.recorded_run({"line": line}, steps=5, record=tmp_path) as run:
        for _ in run.steps():
            run.stop("later", resumable=True)
    for parts, error in (
        ({"other": line}, ArchiveError),
        ({"line": vs.Descent(vs.Dense(2).initialise(np.ones((1, 2))))}, ArchiveError),
    ):
        with (
            pytest.raises(error, match=r"it holds the parts|another network"),
            vs.recorded_run(parts, steps=5, resume=run.folder),
        ):
            pass


def test_a_loop_left_early_can_be_continued(tmp_path):
    noise = vs.RandomStream(0)
    with vs.recorded_run({"noise": noise}, steps=5, record=tmp_path) as run:
        for number in run.steps():
            noise.rng.random()
            if number == 2:
                break
    assert vs.runs.RunFolder(run.folder).read_status()["status"] == "interrupted"


def test_an_error_in_the_loop_is_recorded(tmp_path):
    def loop(run):
        for _ in run.steps():
            raise ZeroDivisionError("division by zero")

    with (
        pytest.raises(ZeroDivisionError),
        vs.recorded_run({"noise": vs.RandomStream(0)}, steps=5, record=tmp_path) as run,
    ):
        loop(run)
    known = vs.runs.RunFolder(run.folder).read_status()
    assert (known["status"], known["reason"]) == ("failed", "ZeroDivisionError: division by zero")


def test_each_descends_by_its_own_parameters_only():
    critic, generator, _ = make()
    before = {path: a.copy() for path, a in critic.network.weights().items()}
    z = np.ones((4, 2), np.float32)
    step = generator.step(lambda: -np.mean(critic.network(generator.network(z))))
    assert all(np.array_equal(critic.network.weights()[path], a) for path, a in before.items())
    loss = -np.mean(critic.network(generator.network(z)))
    assert set(step.gradients) == set(generator.network.parameters())
    assert isinstance(loss, vs.Tensor)


def test_a_step_agrees_with_differentiate():
    network = vs.Stack(vs.Dense(5, np.tanh), vs.Dense(1)).initialise(np.ones((1, 3)), dtype=float)
    x = np.random.default_rng(0).normal(size=(7, 3))
    expected = vs.differentiate(np.mean(network(x) ** 2), network)
    step = vs.Descent(network, optimiser=vs.optimisers.SGD(1e-9)).step(
        lambda: np.mean(network(x) ** 2)
    )
    for path in expected:
        np.testing.assert_allclose(step.gradients[path], expected[path], rtol=1e-12)


@pytest.mark.parametrize(
    ("make_loss", "error", "message"),
    [
        (lambda net: 3.0, DifferentiationError, "nothing trainable went into it"),
        (lambda net: net(np.ones((2, 2), np.float32)), ValueError, "has to be one number"),
        (
            lambda net: np.log(np.sum(net(np.ones((1, 2), np.float32))) * 0),
            NotFiniteError,
            "the loss is -?inf|nan",
        ),
        (lambda net: np.sum(net.weight), DifferentiationError, "The loss never used bias"),
    ],
)
def test_a_step_that_cannot_be_made_changes_nothing(make_loss, error, message):
    network = vs.Dense(2).initialise(np.ones((1, 2)))
    descent, before = vs.Descent(network), network.arena.flat.copy()
    with np.errstate(all="ignore"), pytest.raises(error, match=message):
        descent.step(lambda: make_loss(network))
    assert np.array_equal(network.arena.flat, before)
    assert descent.step_number == 0


def test_settings_are_checked():
    with pytest.raises(SettingError, match="not a layer"):
        vs.Descent(np.tanh)
    with (
        pytest.raises(SettingError, match="steps must be"),
        vs.recorded_run({"a": vs.RandomStream(0)}, steps=0),
    ):
        pass
    with (
        pytest.raises(SettingError, match="needs a name"),
        vs.recorded_run({"a/b": vs.RandomStream(0)}, steps=1),
    ):
        pass
    with pytest.raises(SettingError, match="state"), vs.recorded_run({"a": object()}, steps=1):
        pass


def test_states_come_apart_and_together():
    state = {
        "weights": {"0/bias": np.ones(2), "weights/x": np.zeros(1)},
        "step": 3,
        "inner": {"deep": {"a": np.ones(1)}, "n": [1, 2]},
    }
    arrays, rest = split_state(state, "part/")
    again = joined_state(arrays, rest, "part/")
    assert again["step"] == 3
    assert set(again["weights"]) == {"0/bias", "weights/x"}
    assert again["inner"]["deep"]["a"].tolist() == [1.0]


def test_the_plan_of_a_loop_is_among_the_settings_that_runs_are_found_by(tmp_path):
    x = np.ones((3, 2), np.float32)
    for rate in (0.1, 0.2):
        network = vs.Dense(1).initialise((2,))
        body = vs.Descent(network, optimiser=vs.optimisers.SGD(rate))
        plan = {"optimiser": {"rate": rate}}
        with vs.recorded_run({"body": body}, steps=2, record=tmp_path, plan=plan) as run:
            for _ in run.steps():
                body.step(lambda network=network: np.mean(network(x) ** 2))
                run.numbers(weight=float(network.weights()["weight"][0, 0]))
    runs = vs.runs.open(tmp_path)
    assert runs.table(where=["optimiser.rate>0.15"])["run"].tolist() == ["run-2"]
    assert "optimiser.rate" in vs.runs.compare(list(runs)).settings.index
