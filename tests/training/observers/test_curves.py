import io
import os
import signal

import numpy as np
import pytest
from PIL import Image

import vinestep as vs
from vinestep.training.observers._plot_worker import PlotWorker

pytestmark = pytest.mark.draws


def run(tmp_path, **options):
    data = vs.data.Dataset(np.ones((8, 2), np.float32), np.zeros((8, 1)))
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    return training.run(data.batches(4), epochs=3, record=tmp_path, **options)


def picture(outcome):
    return np.asarray(Image.open(io.BytesIO(outcome.store.read_file("curves.png"))))


def test_a_recorded_run_has_its_curves_as_a_picture(tmp_path):
    drawn = picture(run(tmp_path))
    assert drawn.shape == (800, 1280, 3)
    colours = {tuple(colour) for colour in drawn.reshape(-1, 3)}
    assert (0x5B, 0x2A, 0x86) in colours, "the line of training"
    expected = vs.figures.curves(run(tmp_path / "again").rows, title="run-1")
    again = Image.open(io.BytesIO(vs.figures.as_png(expected)))
    np.testing.assert_array_equal(drawn, np.asarray(again))


def test_one_process_draws_for_all_runs(tmp_path):
    first = PlotWorker.shared()
    run(tmp_path)
    run(tmp_path)
    assert PlotWorker.shared() is first


class KillDrawer(vs.observers.Observer):
    def after_epoch(self, run, row):
        if row["epoch"] == 2:
            os.kill(PlotWorker.shared()._process.pid, signal.SIGKILL)
            PlotWorker.shared()._process.wait()


def test_curves_are_drawn_without_the_process_too(tmp_path):
    before = picture(run(tmp_path / "before"))
    after = picture(run(tmp_path / "after", observers=[KillDrawer()]))
    np.testing.assert_array_equal(before, after)


def test_a_figure_of_the_library_is_drawn_as_matplotlib_saves_it():
    rows = [{"epoch": e, "step": e, "rate": 0.1, "loss": 1 / e} for e in (1, 2, 3)]
    saved = io.BytesIO()
    vs.figures.curves(rows).savefig(saved, format="png")
    ours = Image.open(io.BytesIO(vs.figures.as_png(vs.figures.curves(rows)))).convert("RGBA")
    np.testing.assert_array_equal(np.asarray(ours), np.asarray(Image.open(saved)))
