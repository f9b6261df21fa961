"""Encoders of tables: learned on the training part, inverted, kept with the model."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.errors import DataError


def frame(n=60):
    rng = np.random.default_rng(0)
    return pd.DataFrame(
        {
            "racked": pd.date_range("2025-09-01", periods=n, freq="36h"),
            "tasted": pd.Series(pd.date_range("2025-10-01", periods=n, freq="D")).dt.strftime(
                "%Y-%m-%d"
            ),
            "size": rng.choice(["small", "middling", "large"], n),
            "cooper": ["Alder"] * 30 + ["Brun"] * 27 + ["Castel", "Dorne", None],
            "pH": np.where(rng.random(n) < 0.2, np.nan, rng.normal(3.4, 0.2, n)),
            "price": rng.lognormal(2, 1, n),
        }
    )


def table(**options):
    settings = {"ordered": {"size": ["small", "middling", "large"]}, "dates": ["tasted"], "rare": 5}
    return vs.data.Table(frame(), target="price", **settings | options)


def test_dates_orders_and_rare_categories_become_numbers():
    found, source = table(), frame()
    assert found.feature_names == [
        "racked",
        "tasted",
        "size",
        "pH",
        "cooper=Alder",
        "cooper=Brun",
        "cooper=rare",
        "cooper=missing",
    ]
    np.testing.assert_allclose(
        found.inputs[:, 0], (source["racked"] - pd.Timestamp("1970-01-01")) / pd.Timedelta(days=1)
    )
    np.testing.assert_allclose(np.diff(found.inputs[:, 1]), 1)
    assert (
        found.inputs[:, 2].tolist()
        == source["size"].map({"small": 0, "middling": 1, "large": 2}).tolist()
    )
    np.testing.assert_array_equal(found.inputs[:, 4:].sum(axis=1), 1)
    assert found.inputs[57:, 6].tolist() == [1, 1, 0]


def test_later_rows_are_encoded_alike_and_new_categories_pooled():
    found, later = table(), frame()[:4].assign(cooper=["Brun", "Eder", None, "Alder"])
    assert found.like(later).inputs[:, 4:].tolist() == [
        [0, 1, 0, 0],
        [0, 0, 1, 0],
        [0, 0, 0, 1],
        [1, 0, 0, 0],
    ]
    for column, value, words in (
        ("size", "huge", "none of small, middling, large"),
        ("tasted", "last week", "is no date"),
    ):
        with pytest.raises(DataError, match=words):
            found.like(later.assign(**{column: value}))


SCALES = {
    "standard": lambda x: (x - np.nanmean(x)) / np.nanstd(x),
    "range": lambda x: (x - np.nanmin(x)) / (np.nanmax(x) - np.nanmin(x)),
    "robust": lambda x: (x - np.nanmedian(x)) / np.subtract(*np.nanpercentile(x, [75, 25])),
}


@pytest.mark.parametrize("how", SCALES)
@pytest.mark.parametrize("fill", ["mean", "median", "most_frequent"])
def test_scales_are_their_definitions_and_learned_on_the_first_part(how, fill):
    train, test = table().split(0.6, 0.4, seed=1)
    scaled, other = vs.data.scaled(train, test, how=how, fill=fill)
    raw = train.inputs[:, 3]
    with np.errstate(invalid="ignore"):
        expected = SCALES[how](raw)
    absent = np.isnan(raw)
    np.testing.assert_allclose(scaled.inputs[~absent, 3], expected[~absent], rtol=1e-5)
    value = {"mean": np.nanmean, "median": np.nanmedian}.get(fill, lambda x: min(x[~np.isnan(x)]))(
        raw
    )
    whole = np.append(raw, value)
    centre_and_spread = np.polyfit(raw[~absent], expected[~absent], 1)
    np.testing.assert_allclose(
        scaled.inputs[absent, 3], np.polyval(centre_and_spread, value), rtol=1e-4, atol=1e-5
    )
    assert whole.size == raw.size + 1
    np.testing.assert_array_equal(scaled.inputs[:, -1], absent)
    np.testing.assert_allclose(
        other.inputs[~np.isnan(test.inputs[:, 3]), 3],
        np.polyval(centre_and_spread, test.inputs[:, 3][~np.isnan(test.inputs[:, 3])]),
        rtol=1e-4,
        atol=1e-5,
    )


def test_a_target_learned_as_logarithm_is_predicted_in_its_unit(tmp_path):
    (train,) = vs.data.scaled(table(log_target=True))
    np.testing.assert_allclose(train.targets.ravel(), np.log(frame()["price"]), rtol=1e-5)
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    training.run(train.batches(20), epochs=1)
    model = vs.open_model(training.model().save(tmp_path / "price.vine"))
    rows = frame()
    predicted = model.predict(rows, beside=False)["predicted"]
    np.testing.assert_allclose(
        np.log(predicted), training.outputs(train).ravel(), rtol=1e-4, atol=1e-5
    )
    assert model.codec.encoding == train.encoding
    with pytest.raises(DataError, match="has no logarithm"):
        vs.data.Table(
            frame().assign(price=0.0),
            target="price",
            log_target=True,
            ordered={"size": ["small", "middling", "large"]},
            rare=5,
            dates=["tasted"],
        )


@given(st.lists(st.floats(-1e6, 1e6), min_size=3, max_size=30, unique=True))
def test_scales_invert(values):
    made = vs.data.Table(
        pd.DataFrame({"x": values, "y": np.arange(len(values)) % 2}), target="y", classes=True
    )
    for how in SCALES:
        (found,) = vs.data.scaled(made, how=how)
        scaling = found.scaling
        again = found.inputs[:, 0].astype(np.float64) * scaling.spreads[0] + scaling.centres[0]
        np.testing.assert_allclose(
            again, made.inputs[:, 0], rtol=1e-4, atol=1e-6 * np.ptp(values) + 1e-9
        )


PLAN = """
epochs = 1
layers = [{kind = "dense", width = 1}]
[data]
source = "prices.csv"
target = "price"
dates = ["racked", "tasted"]
rare = 5
log_target = true
scale = "robust"
fill = "median"
ordered = {size = ["small", "middling", "large"]}
"""


def test_a_plan_names_them(tmp_path):
    frame().to_csv(tmp_path / "prices.csv", index=False)
    (tmp_path / "plan.toml").write_text(PLAN)
    from vinestep.training.plans._plan import read_plan
    from vinestep.training.plans._planned_run import PlannedRun

    planned = PlannedRun(read_plan(tmp_path / "plan.toml"), tmp_path)
    assert planned.train.encoding.log_target
    planned.run()


def test_unknown_ways_are_refused():
    with pytest.raises(DataError, match="how is one of standard"):
        vs.data.scaled(table(), how="odd")


def test_rows_of_the_same_kind_lie_outside_as_often_as_chance_has_it():
    """Of 100 sound draws hardly any is told of; rows of another kind always are."""
    import pandas as pd

    import vinestep as vs

    told = 0
    for seed in range(100):
        rng = np.random.default_rng(seed)
        frame = pd.DataFrame(rng.normal(size=(300, 4)), columns=list("abcd"))
        frame["y"] = frame["a"]
        table = vs.data.Table(frame, target="y")
        train, rest = vs.data.scaled(*table.split(0.7, 0.3, seed=seed))
        model = vs.Model(vs.Dense(1).initialise(train.inputs), codec=_codec(train))
        new = pd.DataFrame(rng.normal(size=(120, 4)), columns=list("abcd"))
        told += any("lie outside" in one.evidence for one in model.findings(new))
        shifted = new.assign(a=new["a"] + 2.5)
        assert any(one.subject == "column a" for one in model.findings(shifted))
    assert told <= 5
    again = type(train.scaling).from_dict(train.scaling.as_dict(), 4)
    assert again.rows == len(train) == 210
    assert len(rest) == 90


def _codec(table):
    from vinestep.data.encoding._codec import Codec

    return Codec.of(table)
