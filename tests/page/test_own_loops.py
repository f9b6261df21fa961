"""Runs of loops of one's own on the page, which have no epochs, and what stays as it was when the
page draws itself anew.
"""

import csv
import io

import numpy as np
import pytest
from starlette.testclient import TestClient

import vinestep as vs
from vinestep.page import make_app
from vinestep.page.views import told_apart

from .conftest import Page
from .test_browser import chart, eventually, evidence, ready


def own_loop(root, name, steps=2000, rate=0.1):
    with vs.recorded_run(
        {"noise": vs.RandomStream(0)}, steps=steps, record=root, name=name, plan={"rate": rate}
    ) as run:
        for number in run.steps():
            run.numbers(loss=1 / number, **({"probe": float(number)} if number % 7 == 0 else {}))


@pytest.fixture(scope="module")
def own(tmp_path_factory):
    root = tmp_path_factory.mktemp("own")
    for k in range(2):
        own_loop(root, f"own-{k}", rate=0.1 * (k + 1))
    running = Page(root)
    yield running
    running.stop()


def test_runs_without_epochs_are_drawn_by_step_and_a_missing_axis_is_told(tab, own):
    tab.goto(f"{own.address}/?runs=own-0-1")
    ready(tab, "learning")
    assert "against=step" in tab.url
    assert len(chart(tab, "learning")["training, by step"]) > 10
    assert "loss by" not in evidence(tab)
    tab.select_option("#against", "seconds")
    tab.wait_for_selector("[data-missing=learning]")
    assert "own-0-1: no loss by seconds of training in the record" in evidence(tab)
    assert not tab.locator("[data-chart=learning]").count()
    tab.goto(f"{own.address}/?runs=own-0-1&sheet=record")
    ready(tab, "record")
    assert "step 2000" in evidence(tab)
    assert "epoch 0" not in evidence(tab)


def test_what_somebody_does_on_the_page_outlives_its_drawing_itself_anew(tab, own):
    tab.goto(f"{own.address}/?runs=own-0-1,own-1-2&sheet=compare")
    ready(tab, "compare")
    chart(tab, "compare")
    assert len(tab.get_attribute("[data-chart=compare]", "aria-label")) < 100
    tab.fill("#where", "rate>0.1")
    tab.evaluate(
        "() => echarts.getInstanceByDom(document.querySelector('[data-chart=compare]'))"
        ".dispatchAction({ type: 'legendUnSelect', name: 'own-0-1' })"
    )
    before = tab.locator("#runs li").count()
    own_loop(own.root, "later", steps=3)
    eventually(lambda: tab.locator("#runs li").count() == before + 1)
    tab.evaluate("() => dispatchEvent(new Event('redraw'))")
    drawn = int(tab.get_attribute("#sheet", "data-drawn"))
    eventually(lambda: int(tab.get_attribute("#sheet", "data-drawn")) > drawn or drawn > 1)
    assert tab.input_value("#where") == "rate>0.1"
    shown = tab.evaluate(
        "() => echarts.getInstanceByDom(document.querySelector('[data-chart=compare]'))"
        ".getOption().legend[0].selected"
    )
    assert shown["own-0-1"] is False


def test_a_table_that_is_open_stays_open(tab, own):
    tab.goto(f"{own.address}/?runs=own-0-1&sheet=record")
    ready(tab, "record")
    tab.click("#sheet details summary")
    drawn = int(tab.get_attribute("#sheet", "data-drawn"))
    tab.evaluate("() => dispatchEvent(new Event('redraw'))")
    eventually(lambda: int(tab.get_attribute("#sheet", "data-drawn")) > drawn)
    assert tab.locator("#sheet details[open]").count() == 1
    assert not tab.is_visible("#stop")


def test_a_condition_that_cannot_be_read_lists_nothing(tab, own):
    tab.goto(own.address)
    ready(tab, "runs")
    assert tab.locator("#runs li").count() >= 2
    tab.fill("#where", "nonsense>>")
    tab.click("#filter button")
    eventually(lambda: tab.locator("#filter-trouble").inner_text() != "")
    assert tab.locator("#runs li").count() == 0


def test_the_numbers_of_a_comparison_are_all_of_them(own):
    with TestClient(make_app(vs.runs.open(own.root)), base_url="http://127.0.0.1") as client:
        client.headers["host"] = "127.0.0.1"
        query = {"runs": "own-0-1,own-1-2", "figure": "loss", "against": "step"}
        rows = list(csv.reader(io.StringIO(client.get("/api/curves.csv", params=query).text)))
        assert rows[0] == ["run", "step", "loss"]
        assert len(rows) == 1 + 2 * 2000
        assert rows[1:4] == [["own-0-1", str(float(k)), str(1 / k)] for k in (1, 2, 3)]


def test_runs_of_equal_labels_are_asked_for_by_identity(own):
    table = vs.runs.open(own.root).table(columns=["uid"])
    table["run"] = "oak-1"
    rows = told_apart(table).to_dict("records")
    assert len({row["key"] for row in rows}) == len(rows)
    assert all(vs.runs.open(own.root)[row["key"]].uid == row["key"] for row in rows)


def test_what_is_recorded_within_epochs_stands_within_them(twelve):
    with TestClient(make_app(vs.runs.open(twelve)), base_url="http://127.0.0.1") as client:
        client.headers["host"] = "127.0.0.1"
        run = vs.runs.open(twelve)["leaves-6"]
        per = run.series("epochs")["step"].iloc[0]
        for series in ("norms", "distributions"):
            frame = run.series(series)
            figure = next(name for name in frame if name not in ("step", "epoch"))
            query = {"runs": run.label, "figure": figure, "of": series}
            (curve,) = client.get("/api/curves", params=query).json()["curves"]
            sound = np.isfinite(frame[figure].to_numpy(float))
            np.testing.assert_allclose(curve["x"], frame["step"][sound] / per)
            assert any(x != round(x) for x in curve["x"])


def test_a_run_that_left_all_bounds_has_no_slope_in_words(tmp_path):
    with vs.recorded_run({"noise": vs.RandomStream(0)}, steps=60, record=tmp_path) as run:
        for number in run.steps():
            run.numbers(loss=1.0 if number < 50 else 10.0 ** (2 * (number - 50)))
    with TestClient(make_app(vs.runs.open(tmp_path)), base_url="http://127.0.0.1") as client:
        client.headers["host"] = "127.0.0.1"
        query = {"runs": "run-1", "figure": "loss", "against": "step"}
        (curve,) = client.get("/api/curves", params=query).json()["curves"]
        assert curve["diverges"]


def test_how_far_and_how_fast_a_run_is_and_its_best_score(tmp_path, twelve):
    def progress(root, label):
        with TestClient(make_app(vs.runs.open(root)), base_url="http://127.0.0.1") as client:
            client.headers["host"] = "127.0.0.1"
            return client.get(f"/api/runs/{label}/progress").json()

    run = vs.runs.open(twelve)["leaves-6"]
    found = progress(twelve, "leaves-6")
    assert found["total_steps"] == run.step
    assert found["left"] == 0
    steps = run.steps
    assert found["seconds"] == steps["seconds"].max()
    lately = steps.tail(50)
    passed = lately["seconds"].iloc[-1] - lately["seconds"].iloc[0]
    rate = (lately["step"].iloc[-1] - lately["step"].iloc[0]) / passed
    assert found["steps_a_second"] == pytest.approx(rate)
    assert found["examples_a_second"] == pytest.approx(16 * rate, rel=0.2)
    best = run.scores.loc["validation_loss"]
    assert found["best"] == {
        "figure": "validation_loss",
        "value": best["best"],
        "where": "epoch",
        "at": best["best_epoch"],
    }
    own_loop(tmp_path, "own", steps=20)
    assert progress(tmp_path, "own-1") == {
        "total_steps": 20,
        "best": {"figure": "loss", "value": 1 / 20, "where": "step", "at": 20},
    }


def test_the_questions_fit_in_one_line_and_the_chart_into_the_window(tab, page):
    tab.set_viewport_size({"width": 1280, "height": 800})
    tab.goto(f"{page.address}/?runs=leaves-6")
    ready(tab, "learning")
    chart(tab, "learning")
    boxes = [b.bounding_box() for b in tab.locator("#questions button").all()]
    assert len({box["y"] for box in boxes}) == 1
    assert boxes[-1]["x"] + boxes[-1]["width"] <= 1280
    names = [b.get_attribute("aria-label") for b in tab.locator("#questions button").all()]
    assert all(name.endswith("?") for name in names)
    assert "epoch 6 of 6" in tab.locator("#progress").inner_text()
    place = tab.locator("[data-chart=learning]").bounding_box()
    assert place["y"] + place["height"] <= 830
