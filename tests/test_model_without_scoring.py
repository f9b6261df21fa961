"""Model files whose loss or metric is code that is not handed over: they predict, keep what they
say, and are scored when it is there.
"""

import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.errors import ModelError

X = np.random.default_rng(0).normal(size=(40, 4)).astype(np.float32)
Y = X[:, :1] * 2


@vs.parts.part("halved_error", "loss")
def halved_error(outputs, targets):
    return np.mean(np.square(outputs - targets)) / 2


class Doubled(vs.tasks.Numbers):
    """A task of one's own: outputs are half of what is told."""

    def answers(self, outputs, classes=(), back=None):
        return super().answers(outputs * 2, classes, back)


@vs.parts.maker("how_far", "metric")
def how_far():
    return vs.metrics.Metric(
        "how_far",
        lambda outputs, targets: np.array([np.abs(outputs - targets).sum(), targets.size]),
        lambda counts: counts[0] / counts[1],
        better="lower",
    )


OWN = {
    "loss": {"loss": halved_error},
    "metric": {"loss": vs.losses.squared_error, "metrics": [how_far()]},
    "both": {"loss": halved_error, "metrics": [how_far()]},
}


@pytest.mark.parametrize("what", OWN)
def test_without_them_it_predicts_and_says_why_it_is_not_scored(tmp_path, what):
    training = vs.Training(vs.Dense(1), **OWN[what])
    training.run(vs.data.Dataset(X, Y).batches(10), epochs=2)
    model = training.model()
    file = model.save(tmp_path / "own.vine")
    opened = vs.open_model(file)
    assert opened.predict(X).equals(model.predict(X))
    with pytest.raises(ModelError, match=r"predicts and cannot be scored.*own=\[...\]"):
        opened.assess(X, Y)
    again = vs.open_model(opened.save(tmp_path / "again.vine"), own=[halved_error, how_far])
    assert again.assess(X, Y) == model.assess(X, Y)


def test_the_command_line_predicts_and_refuses_to_score(tmp_path):
    training = vs.Training(vs.Dense(1), loss=halved_error)
    table = vs.data.Table(pd.DataFrame(X, columns=list("abcd")).assign(sugar=Y), target="sugar")
    training.run(table.batches(10), epochs=2)
    model = training.model().save(tmp_path / "own.vine")
    pd.DataFrame(X, columns=list("abcd")).assign(sugar=Y).to_csv(tmp_path / "rows.csv")
    told = [
        subprocess.run(
            [sys.executable, "-m", "vinestep", command, str(model), str(tmp_path / "rows.csv")],
            capture_output=True,
            text=True,
            check=False,
        )
        for command in ("predict", "assess")
    ]
    assert [one.returncode for one in told] == [0, 2]
    assert "predicted" in told[0].stdout
    assert "predicts and cannot be scored" in told[1].stderr


def test_a_task_of_ones_own_has_to_be_at_hand(tmp_path):
    own = vs.parts.part("doubled", "task")(Doubled)
    training = vs.Training(vs.Dense(1), task=own())
    training.run(vs.data.Dataset(X, Y).batches(10), epochs=1)
    file = training.model().save(tmp_path / "own.vine")
    with pytest.raises(ModelError, match="'doubled' is not known"):
        vs.open_model(file)
    assert vs.open_model(file, own=[own]).predict(X).equals(training.model().predict(X))


def test_a_damaged_description_of_a_loss_is_still_refused(tmp_path):
    from vinestep.storage import archive

    training = vs.Training(vs.Dense(1), loss=vs.losses.huber)
    training.run(vs.data.Dataset(X, Y).batches(10), epochs=1)
    saved = archive.read(training.model().save(tmp_path / "one.vine"))
    meta = saved.meta | {"model": saved.meta["model"] | {"loss": {"kind": "huber", "thresold": 2}}}
    file = archive.write(tmp_path / "two.vine", saved.arrays, meta)
    with pytest.raises(ModelError, match="thresold"):
        vs.open_model(file)
