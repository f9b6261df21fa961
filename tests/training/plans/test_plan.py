"""Plans that name every layer, loss, optimiser and schedule of the package; settings from the
command line; parts of files.
"""

import numpy as np
import pandas as pd
import pytest
import tomli_w

import vinestep as vs
from vinestep.errors import PlanError, SettingError
from vinestep.training.plans._overrides import own_parts
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun

DENSE = {"kind": "dense", "width": "classes"}
PICTURE = [{"kind": "dense", "width": 16}, {"kind": "reshape", "shape": [4, 4, 1]}]
SEQUENCE = [{"kind": "dense", "width": 16}, {"kind": "reshape", "shape": [4, 4]}]
FLAT = [{"kind": "flatten"}, DENSE]
FEATURES = 12  # of the demo's barrels
LAYERS = {
    "dense": [
        {
            "kind": "dense",
            "width": 5,
            "activation": {"kind": "elu", "alpha": 0.5},
            "initialiser": "orthogonal",
        },
        DENSE,
    ],
    "dropout": [{"kind": "dropout", "probability": 0.2}, DENSE],
    "noise": [{"kind": "noise", "deviation": 0.1}, DENSE],
    "parametric_relu": [{"kind": "dense", "width": 4}, "parametric_relu", DENSE],
    "stack": [{"kind": "stack", "layers": [{"kind": "dense", "width": 4}, "relu"]}, DENSE],
    "residual": [
        {"kind": "residual", "body": "tanh", "shortcut": {"kind": "noise", "deviation": 0.1}},
        DENSE,
    ],
    "concat": [{"kind": "concat", "branches": [{"kind": "dense", "width": 3}, "tanh"]}, DENSE],
    "sum": [{"kind": "sum", "branches": ["relu", "numpy.sin"]}, DENSE],
    "convolution": [
        *PICTURE,
        {"kind": "convolution", "channels": 2, "window": 3, "stride": [1, 2]},
        *FLAT,
    ],
    "transposed_convolution": [
        *PICTURE,
        {"kind": "transposed_convolution", "channels": 2, "window": 2, "stride": 2},
        *FLAT,
    ],
    "upsample": [*PICTURE, {"kind": "upsample", "factor": 2, "how": "linear"}, *FLAT],
    "flatten": [*PICTURE, *FLAT],
    "reshape": [*PICTURE, *FLAT],
    "columns": [*PICTURE, "columns", *FLAT],
    "attention": [*SEQUENCE, {"kind": "attention", "heads": 2}, *FLAT],
    "transformer_block": [
        *SEQUENCE,
        {"kind": "transformer_block", "heads": 2, "activation": "relu"},
        *FLAT,
    ],
    "positions": [*SEQUENCE, {"kind": "positions", "form": "learned", "longest": 8}, *FLAT],
    **{name: [*PICTURE, {"kind": name, "window": 2}, *FLAT] for name in ("max_pool", "mean_pool")},
    **{name: [*PICTURE, name, DENSE] for name in ("global_mean", "global_max")},
    **{
        name: [{"kind": "dense", "width": 4}, name, DENSE]
        for name in ("batch_norm", "layer_norm", "rms_norm")
    },
    "group_norm": [
        *PICTURE,
        {"kind": "convolution", "channels": 4, "window": 2},
        {"kind": "group_norm", "groups": 2},
        *FLAT,
    ],
    **{
        name: [*SEQUENCE, {"kind": name, "width": 3, "output": "last"}, DENSE]
        for name in ("recurrent", "gru", "lstm")
    },
    "conditioned_block": [
        *PICTURE,
        {"kind": "conditioned_block", "channels": 4},
        {"kind": "pixel_attention", "heads": 2},
        *FLAT,
    ],
    "pixel_attention": [
        *PICTURE,
        {"kind": "convolution", "channels": 4, "window": 2},
        {"kind": "pixel_attention", "heads": 2},
        *FLAT,
    ],
    "conditioned_dense": [
        {"kind": "conditioned_dense", "outputs": 3, "width": 4, "fourier_features": 2}
    ],
    "recomputed": [{"kind": "recomputed", "body": {"kind": "dense", "width": 4}}, DENSE],
    "pipeline": [
        {
            "kind": "pipeline",
            "stages": [{"kind": "stack", "layers": [{"kind": "dense", "width": 4}, "relu"]}, DENSE],
            "micro_batches": 2,
        }
    ],
    "spectral_norm": [{"kind": "spectral_norm", "layer": {"kind": "dense", "width": 4}}, DENSE],
    "minibatch_deviation": ["minibatch_deviation", DENSE],
    "diffusion": [
        {
            "kind": "diffusion",
            "body": {"kind": "conditioned_dense", "outputs": FEATURES, "width": 8},
            "classes": "classes",
            "noise": {"kind": "straight"},
            "predicts": "flow",
        }
    ],
    **{
        f"{name}autoencoder": [
            {
                "kind": f"{name}autoencoder",
                "encoder": {"kind": "dense", "width": 4},
                "decoder": {"kind": "dense", "width": FEATURES},
                **settings,
            }
        ]
        for name, settings in (
            ("", {"noise": 0.1}),
            ("variational_", {"latent": 2, "weight": {"kind": "warmup", "steps": 10}}),
            ("quantised_", {"codes": 5, "width": 4}),
        )
    },
}
WITHOUT_TABLES = {
    "multi_input",
    "heads",
    "ensemble",
    "u_shaped",
    "embedding",
    "decoder_block",
    "encoder_decoder",
    "language_model",
    "text_scorer",
    "time_embedding",
    "latent_generator",
    "critic",
}  # take tokens, numbers, or two inputs, or train in a pair


def plan(tmp_path, **changes):
    values = {
        "epochs": 1,
        "data": {"source": "barrels.csv", "target": "state", "batch": 32},
        "layers": [DENSE],
        **changes,
    }
    if not (tmp_path / "barrels.csv").exists():
        vs.demo.barrels(150).to_csv(tmp_path / "barrels.csv", index=False)
    (tmp_path / "plan.toml").write_text(tomli_w.dumps(values))
    return tmp_path / "plan.toml"


def planned(tmp_path, **changes):
    return PlannedRun(read_plan(plan(tmp_path, **changes)), tmp_path)


def test_no_layer_is_left_out():
    assert {kind.name for kind in vs.parts.kinds("layer")} == {*LAYERS, *WITHOUT_TABLES}


@pytest.mark.parametrize("name", LAYERS)
def test_every_layer_trains_by_a_plan(tmp_path, name):
    run = planned(tmp_path, layers=LAYERS[name])
    assert np.isfinite(run.run(record=tmp_path / "records").rows[-1]["loss"])
    again = vs.open_model(run.training.model().save(tmp_path / "m.vine"))
    given = {"targets": run.test.targets}
    assert np.array_equal(again.outputs(run.test.inputs, **given), run.training.outputs(run.test))


@pytest.mark.parametrize("kind", vs.parts.kinds("activation"), ids=lambda kind: kind.name)
def test_every_activation_stands_in_a_plan(tmp_path, kind):
    layers = [{"kind": "dense", "width": 4, "activation": kind.name}, DENSE]
    assert np.isfinite(planned(tmp_path, layers=layers).run().rows[-1]["loss"])


@pytest.mark.parametrize("kind", vs.parts.kinds("initialiser"), ids=lambda kind: kind.name)
def test_every_initialiser_stands_in_a_plan(tmp_path, kind):
    initialiser = {"kind": "constant", "value": 0.1} if kind.name == "constant" else kind.name
    run = planned(
        tmp_path, layers=[{"kind": "dense", "width": 10, "initialiser": initialiser}, DENSE]
    )
    assert np.isfinite(run.run().rows[-1]["loss"])


CLASS_LOSSES = {"cross_entropy", "negative_log_likelihood", "hinge"}
NUMBER_LOSSES = {
    "squared_error",
    "absolute_error",
    "huber",
    "log_cosh",
    "cosine",
    "binary_cross_entropy",
    "kullback_leibler",
}
PAIR_LOSSES = {"triplet", "contrastive"}  # of more than outputs and targets
BATCH_LOSSES = {"batch_triplet", "batch_contrastive"}
WITHOUT_LOSS_OF_TABLES = {"temporal_classification"}


def test_no_loss_is_left_out():
    assert {
        kind.name for kind in vs.parts.kinds("loss")
    } == CLASS_LOSSES | NUMBER_LOSSES | PAIR_LOSSES | BATCH_LOSSES | WITHOUT_LOSS_OF_TABLES


@pytest.mark.parametrize("loss", sorted(BATCH_LOSSES))
def test_losses_over_a_batch_train_by_a_plan(tmp_path, loss):
    layers = [{"kind": "dense", "width": 4}]
    run = planned(tmp_path, loss=loss, metrics=[], layers=layers)
    assert np.isfinite(run.run().rows[-1]["loss"])


@pytest.mark.parametrize("loss", sorted(CLASS_LOSSES))
def test_every_loss_of_classes_trains_by_a_plan(tmp_path, loss):
    described = (
        {"kind": loss, "class_weights": [1.0, 2.0, 3.0]} if loss == "cross_entropy" else loss
    )
    layers = [DENSE, *(["log_softmax"] if loss == "negative_log_likelihood" else [])]
    assert np.isfinite(planned(tmp_path, loss=described, layers=layers).run().rows[-1]["loss"])


@pytest.mark.parametrize("loss", sorted(NUMBER_LOSSES))
def test_every_loss_of_numbers_trains_by_a_plan(tmp_path, loss):
    frame = pd.DataFrame(
        np.random.default_rng(0).uniform(0.1, 1.0, (80, 3)), columns=["a", "b", "y"]
    )
    frame["y"] = np.where(frame["y"] > 0.5, 1.0, 1.0 if loss == "kullback_leibler" else 0.5)
    frame.to_csv(tmp_path / "numbers.csv", index=False)
    data = {"source": "numbers.csv", "target": "y"}
    last = [*(["log_softmax"] if loss == "kullback_leibler" else [])]
    run = planned(
        tmp_path, data=data, loss=loss, layers=[DENSE, *last], metrics=["metric.squared_error"]
    )
    assert np.isfinite(run.run().rows[-1]["loss"])


OF_NUMBERS = [
    "absolute_error",
    "correlation",
    "coverage",
    "quantile_loss",
    "r_squared",
    "root_mean_squared_error",
    "squared_error",
]
OF_TARGETS = ("of_target", "target_loss")
METRICS = [kind for kind in vs.parts.kinds("metric") if kind.name not in ("of_all", *OF_TARGETS)]


@pytest.mark.parametrize("kind", METRICS, ids=lambda kind: kind.name)
def test_every_metric_stands_in_a_plan(tmp_path, kind):
    changes = {"data": {"source": "barrels.csv", "target": "state"}}
    of_numbers = kind.name in OF_NUMBERS
    if of_numbers:
        data = {"source": "barrels.csv", "target": "sugar", "leave_out": ["pH", "colour_index"]}
        changes = {"data": data, "layers": [{"kind": "dense", "width": "outputs"}]}
    if kind.name == "coverage":
        changes["task"] = "quantiles"
    metric = (
        {"kind": "top", "k": 2}
        if kind.name == "top"
        else f"metric.{kind.name}"
        if of_numbers
        else kind.name
    )
    row = planned(tmp_path, metrics=[metric], **changes).run().rows[-1]
    assert len(row) == 7


def median_error(outputs, targets):
    return float(np.median(np.abs(outputs - targets)))


def test_metrics_of_targets_and_of_ones_own_stand_in_a_plan(tmp_path):
    own = vs.parts.part("median_error", "metric")(median_error)
    head = {"kind": "dense", "width": "outputs"}
    heads = {"kind": "heads", "body": "relu", "heads": {"state": head, "sugar": head}}
    data = {
        "source": "barrels.csv",
        "targets": ["state", "sugar"],
        "leave_out": ["pH", "colour_index"],
    }
    metrics = {
        "state": ["accuracy", "kappa"],
        "sugar": [{"kind": "of_all", "function": {"kind": "median_error"}, "better": "lower"}],
    }
    plan(tmp_path, data=data, layers=[heads], metrics=metrics)
    read = read_plan(tmp_path / "plan.toml", own=[own])
    run = PlannedRun(read, tmp_path, own=[own])
    row = run.run().rows[-1]
    assert {"state_accuracy", "validation_state_kappa", "validation_sugar_median_error"} <= set(row)
    listed = [
        {"kind": "of_target", "metric": "accuracy", "target": "state"},
        {"kind": "target_loss", "target": "sugar"},
    ]
    row = planned(tmp_path, data=data, layers=[heads], metrics=listed).run().rows[-1]
    assert {"state_accuracy", "sugar_loss"} <= set(row)


@pytest.mark.parametrize("kind", vs.parts.kinds("optimiser"), ids=lambda kind: kind.name)
def test_every_optimiser_trains_by_a_plan(tmp_path, kind):
    common = {
        "rate_factors": {"0/bias": 0.5},
        "decay_factors": {"0/weight": 0.5},
        "decay_of": "weights",
        "weight_decay": 0.01,
    }
    optimiser = {
        "kind": kind.name,
        "rate": 0.01,
        **(common if kind.name != "lbfgs" else {"history": 3}),
    }
    assert np.isfinite(planned(tmp_path, optimiser=optimiser).run().rows[-1]["loss"])


SCHEDULES = {
    "constant": [{"kind": "constant", "steps": 2}, {"kind": "cosine", "steps": 5}],
    "cosine": [{"kind": "cosine", "steps": 5, "floor": 0.1}],
    "warmup": [{"kind": "warmup", "steps": 2}],
    "step_decay": [{"kind": "step_decay", "every": 2}],
    "in_turn": [{"kind": "in_turn", "schedules": [{"kind": "warmup", "steps": 2}, "constant"]}],
    "exponential": [{"kind": "exponential", "steps": 2, "factor": 0.5}],
    "inverse_root": [{"kind": "inverse_root", "steps": 2}],
    "polynomial": [{"kind": "polynomial", "steps": 5, "power": 2.0}],
    "cosine_restarts": [{"kind": "cosine_restarts", "steps": 2, "forget": True}],
    "one_cycle": [{"kind": "one_cycle", "steps": 5}],
    "by_epoch": [
        {"kind": "by_epoch", "schedule": {"kind": "warmup", "steps": 1}},
        {"kind": "cosine", "steps": 5},
    ],
    "plateau": [{"kind": "warmup", "steps": 2}, {"kind": "plateau", "epochs": 1, "by": "loss"}],
}


def test_no_schedule_is_left_out():
    assert {kind.name for kind in vs.parts.kinds("schedule")} == {
        *SCHEDULES,
        "schedule",
    }  # the last takes a function


@pytest.mark.parametrize("name", SCHEDULES)
def test_every_schedule_trains_by_a_plan(tmp_path, name):
    run = planned(tmp_path, schedule=SCHEDULES[name])
    assert np.isfinite(run.run().rows[-1]["loss"])
    built = vs.parts.build({"kind": "in_turn", "schedules": SCHEDULES[name]})
    built.begin(len(run.train_batches()))
    assert run.training.schedule.steps == built.steps


def test_a_schedule_that_cannot_go_on_is_refused(tmp_path):
    with pytest.raises(PlanError, match="schedule: .*no end, so nothing can follow it"):
        read_plan(plan(tmp_path, schedule=["constant", {"kind": "cosine", "steps": 4}]))


def test_no_output_layer_is_added(tmp_path):
    with pytest.raises(
        PlanError,
        match=r"the network gives 4 values, and the target 'state' has 3 classes(.|\n)*\"classes\"",
    ):
        planned(tmp_path, layers=[{"kind": "dense", "width": 4}])


@pytest.mark.parametrize(
    ("setting", "get", "value"),
    [
        ("optimiser.rate=0.5", lambda p: p.optimiser, {"kind": "adam", "rate": 0.5}),
        ("layers.0.width=7", lambda p: p.layers[0]["width"], 7),
        ("epochs=9", lambda p: p.epochs, 9),
        ("optimiser.kind=sgd", lambda p: p.optimiser["kind"], "sgd"),
        ("data.leave_out=['pH']", lambda p: p.data.leave_out, ["pH"]),
        ("name=cellar", lambda p: p.name, "cellar"),
        ("clip = 2.0", lambda p: p.clip, 2.0),
        ('loss={kind = "huber", delta = 2.0}', lambda p: p.loss, {"kind": "huber", "delta": 2.0}),
    ],
)
def test_a_setting_is_changed_and_recorded(tmp_path, setting, get, value):
    more = {"optimiser": {"kind": "adam", "rate": 0.1}} if setting == "optimiser.kind=sgd" else {}
    found = read_plan(plan(tmp_path, **more), settings=[setting])
    assert get(found) == value
    assert found.set == [setting]
    (tmp_path / "again.toml").write_text(tomli_w.dumps(found.as_toml()))
    assert read_plan(tmp_path / "again.toml") == found


@pytest.mark.parametrize(
    ("setting", "error", "message"),
    [
        (
            "optimiser.rat=0.5",
            PlanError,
            "optimiser.rat: unknown setting of adam. Did you mean 'rate'",
        ),
        ("layers.7.width=7", SettingError, "layers has 1 entries"),
        ("layers.0.width=0", PlanError, "width must be a whole number"),
        ("epochs", SettingError, "write NAME=VALUE"),
        ("epochs.a=3", SettingError, "has nothing in it to set"),
        ("data.bach=3", PlanError, "data.bach: unknown key. Did you mean 'batch'"),
    ],
)
def test_a_setting_that_is_wrong_is_refused(tmp_path, setting, error, message):
    with pytest.raises(error, match=message):
        read_plan(plan(tmp_path), settings=[setting])


OWN = """
import numpy as np
import vinestep as vs


@vs.parts.part("bent")
def bent(x):
    return np.sqrt(x * x + 1.0) - 1.0


@vs.parts.part("scale")
class Scale(vs.Layer):
    def __init__(self, factor=1.0):
        self.factor = factor

    def compute(self, x):
        return x * self.factor
"""


def test_own_parts_from_a_file(tmp_path):
    (tmp_path / "my_layers.py").write_text(OWN)
    own = own_parts(tmp_path / "my_layers.py")
    path = plan(
        tmp_path,
        layers=[
            {"kind": "scale", "factor": 2.0},
            {"kind": "dense", "width": 4, "activation": "bent"},
            DENSE,
        ],
    )
    run = PlannedRun(read_plan(path, own=own), tmp_path, own=own)
    run.run(record=tmp_path / "records")
    file = run.training.model().save(tmp_path / "own.vine")
    assert np.array_equal(
        vs.open_model(file, own=own).outputs(run.test.inputs), run.training.outputs(run.test)
    )
    with pytest.raises(PlanError, match="layers.0.kind: 'scale' is not known"):
        read_plan(path)
    for text, message in (("x = 1", "it defines no part"), ("1 / 0", "ZeroDivisionError")):
        (tmp_path / "bad.py").write_text(text)
        with pytest.raises(PlanError, match=message):
            own_parts(tmp_path / "bad.py")


def test_parts_from_files_of_their_own(tmp_path):
    whole = vs.demo.barrels(300)
    whole[:180].to_csv(tmp_path / "a.csv", index=False)
    whole[180:240].to_csv(tmp_path / "b.csv", index=False)
    whole[240:].sample(frac=1.0, random_state=1).to_csv(tmp_path / "c.csv", index=False)
    data = {
        "source": "a.csv",
        "validation": "b.csv",
        "test": "c.csv",
        "target": "state",
        "unseen_categories": "zeros",
    }
    run = planned(tmp_path, data=data)
    assert [len(part) for part in (run.train, run.validation, run.test)] == [180, 60, 60]
    assert run.train.encoding == run.test.encoding
    run.run()
    half = planned(
        tmp_path,
        data={"source": "a.csv", "validation": "b.csv", "target": "state", "split": [0.8, 0.2]},
    )
    assert [len(part) for part in (half.train, half.validation, half.test)] == [144, 60, 36]
    with pytest.raises(
        PlanError, match="data.split: 2 fractions are wanted, for training, test; got 3"
    ):
        read_plan(
            plan(
                tmp_path,
                data={
                    "source": "a.csv",
                    "validation": "b.csv",
                    "target": "state",
                    "split": [0.7, 0.2, 0.1],
                },
            )
        )
    whole[100:160].to_csv(tmp_path / "b.csv", index=False)
    with pytest.raises(vs.errors.DataError, match="of 60 test examples are training examples"):
        planned(tmp_path, data={"source": "a.csv", "test": "b.csv", "target": "state"}).run()


def test_rows_without_a_target(tmp_path):
    frame = vs.demo.barrels(150)
    frame.loc[::10, "state"] = None
    frame.to_csv(tmp_path / "gaps.csv", index=False)
    data = {"source": "gaps.csv", "target": "state"}
    with pytest.raises(
        vs.errors.DataError,
        match=r"missing in 15 of 150 rows, first in row 1 .*drop_missing_target = true",
    ):
        planned(tmp_path, data=data)
    assert len(planned(tmp_path, data=data | {"drop_missing_target": True}).source) == 135


def test_a_plan_with_a_test_part_is_divided_into_folds_too(tmp_path):
    from vinestep.training.plans._plan import DataPlan

    split = [0.6, 0.2, 0.2]
    fold = {"number": 1, "of": 4}
    data = DataPlan(source="barrels.csv", target="state", split=split, fold=fold)
    assert data.fractions == pytest.approx([0.75, 0.25])
    assert DataPlan(source="barrels.csv", target="state", split=split).fractions == split
    with pytest.raises(ValueError, match="2 fractions are wanted"):
        DataPlan(source="barrels.csv", target="state", split=[0.4, 0.2, 0.2, 0.2], fold=fold)
