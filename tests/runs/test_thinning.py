"""Long series made shorter: what is kept, where, and what is refused."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.errors import RunError, SettingError
from vinestep.runs._thinning import thinned

from ..command_line import vinestep_here


@given(
    n=st.integers(1, 900),
    rows=st.integers(50, 200),
    seed=st.integers(0, 9),
    gaps=st.booleans(),
    columns=st.lists(st.sampled_from(["loss", "accuracy", "rate"]), unique=True),
)
@settings(max_examples=60, deadline=None)
def test_at_most_so_many_rows_with_the_extremes_of_the_figure(n, rows, seed, gaps, columns):
    rng = np.random.default_rng(seed)
    frame = pd.DataFrame({"step": np.arange(1, n + 1)} | {c: rng.normal(size=n) for c in columns})
    if gaps and "loss" in columns:
        frame.loc[rng.random(n) < 0.3, "loss"] = np.nan
    short = thinned(frame, rows)
    assert len(short) <= rows
    assert len(short) == n or len(short) > rows // 4
    assert short["step"].is_monotonic_increasing
    assert short["step"].is_unique
    assert short["step"].iloc[[0, -1]].tolist() == [1, n]
    figure = next((name for name in ("loss", "accuracy") if name in columns), None)
    if figure is not None and frame[figure].notna().any():
        assert short[figure].max() == frame[figure].max()
        assert short[figure].min() == frame[figure].min()
        assert short[figure].isna().any() == frame[figure].isna().any()
    pd.testing.assert_frame_equal(short, frame.loc[short.index])


def recorded(record, steps=400):
    x = np.random.default_rng(0).normal(size=(20, 3)).astype(np.float32)
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    return training.run(
        vs.data.Dataset(x, x[:, :1]).batches(1),
        epochs=steps // 20,
        observers=[vs.observers.Steps()],
        record=record,
        name="long",
    )


def test_a_run_in_a_folder_is_thinned_there_and_in_the_ledger(tmp_path):
    recorded(tmp_path)
    run = vs.runs.open(tmp_path)["long-1"]
    before = run.steps
    assert len(before) == 400

    def command(rows, *more, **options):
        asked = "thin", 1, "--rows", rows, "--record", tmp_path, *more
        return vinestep_here(*asked, cwd=tmp_path, **options)

    assert command(100, input="n\n").returncode == 1
    done = command(100, "--yes")
    assert done.returncode == 0, done.stdout + done.stderr
    assert "long-1: steps 400 to" in done.stdout
    assert len((tmp_path / "long-1" / "steps.csv").read_text().splitlines()) <= 101
    run = vs.runs.open(tmp_path)["long-1"]
    after = run.steps
    assert len(after) <= 100
    assert after["loss"].max() == before["loss"].max()
    assert len(run.curves) == 20, "epochs stay whole"
    assert "Thinned: steps 400 to" in run.notes[-1]["text"]
    again = vinestep_here("thin", 1, "--rows", 100, "--yes", "--record", tmp_path, cwd=tmp_path)
    assert "nothing to thin" in again.stdout
    assert (
        vinestep_here(
            "thin", 1, "--rows", 3, "--yes", "--record", tmp_path, cwd=tmp_path
        ).returncode
        == 2
    )


def test_a_run_in_a_ledger_alone_is_thinned(tmp_path):
    ledger = vs.runs.Ledger(f"sqlite:///{tmp_path}/l.sqlite")
    store = vs.runs.LedgerStore.new(ledger, "long")
    recorded(store)
    run = vs.runs.Runs(ledger, None)["long-1"]
    assert run.thin(60) == {"steps": (400, len(run.refresh().steps))}
    assert len(run.refresh().steps) <= 60
    with pytest.raises(SettingError, match="at least 50"):
        run.thin(10)


def test_a_running_run_is_left(tmp_path):
    from vinestep.storage.run_folder import RunFolder

    with RunFolder.new(tmp_path, "long") as folder:
        folder.begin("long", {})
        folder.write_status({"status": "running"})
        run = vs.runs.open(tmp_path)["long-1"]
        with pytest.raises(RunError, match="is running"):
            run.thin()
