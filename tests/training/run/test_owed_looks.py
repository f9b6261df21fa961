"""A kill between saving a state and scoring it within an epoch loses neither score nor state."""

import shutil

import numpy as np

import vinestep as vs


class CopyAt(vs.observers.Observer):
    """Copies the folder of the run after its state was saved at a step, before it is scored."""

    order = 10_000

    def __init__(self, step, to):
        self.step, self.to = step, to

    def after_step(self, run, step):
        if step.number == self.step:
            run.finish_saving()
            shutil.copytree(run.folder, self.to)


def asked(observers, **where):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(60, 3)).astype(np.float32)
    data = vs.data.Dataset(x, (x[:, 0] > 0).astype(int))
    train, rest = data.split(0.7, 0.3)
    training = vs.Training(
        vs.Dense(2), loss=vs.losses.cross_entropy, optimiser=vs.optimisers.Adam(0.1), seed=2
    )
    return training.run(
        train.batches(4),
        epochs=2,
        validation=rest.batches(8),
        validate_every="3 steps",
        observers=[vs.observers.Checkpoints("best", every=3), *observers],
        **where,
    )


def test_a_look_that_a_saved_state_owes_is_made_up_for(tmp_path):
    whole = asked([CopyAt(6, tmp_path / "copy")], record=tmp_path / "records")
    again = asked([], resume=tmp_path / "copy")
    wanted, found = (vs.runs.RunFolder.open(o.folder) for o in (whole, again))
    looks = [
        [(row["step"], row["validation_loss"]) for row in run.read_series("validation")]
        for run in (wanted, found)
    ]
    assert looks[1] == looks[0]
    assert 6 in [step for step, _ in looks[1]]
    assert found.best_state() == wanted.best_state()
