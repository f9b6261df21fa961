import numpy as np
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.runs._score_summary import merged_scores, scores_of

numbers = st.sampled_from([np.nan, np.inf, -1.0, 0.0, 0.5, 2.0])
matrices = st.lists(st.tuples(numbers, numbers, numbers), min_size=1, max_size=12)


@settings(max_examples=200, deadline=None)
@given(matrices, st.lists(st.integers(0, 12), max_size=3), st.sampled_from(["higher", "lower"]))
def test_rows_in_pieces_score_as_rows_at_once(rows, cuts, direction):
    columns = ["step", "loss", "probe", "norm"]
    matrix = np.column_stack([np.arange(1.0, len(rows) + 1), np.array(rows)])
    better = {"probe": direction}
    pieces = []
    for piece in np.split(matrix, sorted(min(cut, len(rows)) for cut in cuts)):
        pieces = merged_scores(pieces, scores_of(columns, piece, better))
    whole = scores_of(columns, matrix, better)
    by_name = {row["name"]: row for row in pieces}
    assert by_name == {row["name"]: row for row in whole}
    for k, name in enumerate(columns[1:], 1):
        known = np.isfinite(matrix[:, k])
        assert (name in by_name) == known.any()
        if known.any():
            assert by_name[name]["last"] == matrix[known, k][-1]
            best = {"loss": np.min, "probe": np.min if direction == "lower" else np.max}
            if name in best:
                assert by_name[name]["best"] == best[name](matrix[known, k])
                assert matrix[int(by_name[name]["best_step"]) - 1, k] == by_name[name]["best"]


def test_a_figure_that_the_last_step_lacks_keeps_its_scores(tmp_path):
    with vs.recorded_run(
        {"noise": vs.RandomStream(0)},
        steps=40,
        record=tmp_path,
        name="own",
        plan={"rate": 0.1},
        better={"probe": "higher"},
    ) as run:
        for number in run.steps():
            run.numbers(loss=(number - 20) ** 2, **({"probe": number % 7} if number < 30 else {}))
    (found,) = vs.runs.open(tmp_path)
    assert found.settings["rate"] == 0.1
    assert found.scores.loc["probe", ["last", "best", "best_step"]].tolist() == [1, 6, 6]
    assert found.scores.loc["loss", ["last", "best", "best_step"]].tolist() == [400, 0, 20]
