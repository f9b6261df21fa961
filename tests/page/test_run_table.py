"""The table of all runs: columns, order, conditions, what is done with those that are chosen, and
scores by settings.
"""

import json
import re
import time

import numpy as np
import pytest
from fastapi.testclient import TestClient

import vinestep as vs
from vinestep.errors import RunError
from vinestep.page.app import make_app
from vinestep.runs._saved_views import remove_view, save_view, saved_views

from .conftest import Page


def record(root, rate, seed, name="oak"):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(40, 3)).astype(np.float32)
    data = vs.data.Dataset(x, x[:, :1] * 2)
    vs.Training(
        vs.Dense(1),
        loss=vs.losses.squared_error,
        optimiser=vs.optimisers.SGD(rate),
        seed=seed,
    ).run(data.batches(10), epochs=2, record=root, name=name)


@pytest.fixture
def ways(tmp_path):
    """Two rates by three seeds."""
    for rate in (0.01, 0.1):
        for seed in (1, 2, 3):
            record(tmp_path, rate, seed)
    return tmp_path


@pytest.fixture
def own_page(ways):
    running = Page(ways)
    yield running
    running.stop()


def asked(app):
    client = TestClient(app, base_url="http://127.0.0.1")
    client.headers["X-Vinestep-Token"] = app.state.door.token
    return client


def test_means_over_seeds_are_those_of_student(ways):
    from scipy import stats

    runs = vs.runs.open(ways)
    table, means = runs.table(columns=["optimiser.rate"]), vs.runs.seed_means(runs, "best loss")
    assert means["runs"].tolist() == [3, 3]
    for row in means.itertuples():
        values = table[table["optimiser.rate"] == row[1]]["best loss"]
        found = stats.ttest_1samp(values, 0).confidence_interval(0.95)
        np.testing.assert_allclose([row.mean, row.low, row.high], [values.mean(), *found])
    one = vs.runs.seed_means(runs, "best loss", where=["seed=1"])
    assert one["runs"].tolist() == [1, 1]
    assert one["low"].isna().all()
    with pytest.raises(RunError, match="No run has the score 'cork'"):
        vs.runs.seed_means(runs, "cork")


def test_runs_are_found_by_tags_and_by_texts(ways):
    runs = vs.runs.open(ways)
    runs["oak-2"].tag(["good", "old 50%"])
    runs["oak-3"].note("The Cork smelled.")
    runs = vs.runs.open(ways)

    def labels(**asked):
        table = runs.table(**asked)
        return list(table["run"]) if len(table) else []

    assert labels(where=["tag=good"]) == ["oak-2"]
    assert labels(where=["tag!=good"]) == ["oak-1", "oak-3", "oak-4", "oak-5", "oak-6"]
    assert labels(text=["cork"]) == ["oak-3"]
    assert labels(text=["GOOD"]) == ["oak-2"]
    assert labels(text=["50%"]) == ["oak-2"]
    assert labels(text=["5_%"]) == []  # no pattern, but the text itself
    assert labels(text=["oak", "cork"], where=["tag=good"]) == []
    assert len(labels(text=["squared_error"])) == 6
    with pytest.raises(RunError, match="has a tag or not"):
        runs.table(where=["tag>good"])
    with pytest.raises(RunError, match="longer than"):
        runs.table(text=["a" * 501])


def test_a_run_is_found_by_label_number_and_identity_among_many(ways):
    runs = vs.runs.open(ways)
    uid = runs["oak-4"].uid
    assert runs["4"].label == runs[4].label == runs[uid].label == "oak-4"
    assert runs[str(ways / "oak-4")].label == "oak-4"
    for wrong in ("7", "٤", "04", "9" * 30, "oak\0", ""):
        with pytest.raises(RunError, match="There is no run"):
            runs[wrong]


def test_views_are_kept_by_name():
    ledger = vs.runs.Ledger("sqlite://")
    save_view(ledger, " oak ", "where=a")
    save_view(ledger, "oak", "where=b")
    assert saved_views(ledger) == {"oak": "where=b"}
    for name in ("", "  ", "a\nb", "a" * 101):
        with pytest.raises(RunError, match="printable characters"):
            save_view(ledger, name, "")
    with pytest.raises(RunError, match="at most"):
        save_view(ledger, "long", "a" * 5000)
    remove_view(ledger, "oak")
    with pytest.raises(RunError, match="no view 'oak'"):
        remove_view(ledger, "oak")


def test_what_one_refuses_leaves_the_others(ways):
    app = make_app(vs.runs.open(ways))
    vs.catalogue.keep(vs.runs.open(ways)["oak-1"], "oak")
    with asked(app) as client:
        body = {"labels": ["oak-1", "oak-2", "cork-9"]}
        found = client.post("/api/selected/remove", json=body).json()
        assert found["done"] == ["oak-2"]
        assert "catalogue needs this run" in found["refused"][0]
        assert "There is no run 'cork-9'" in found["refused"][1]
        assert not (ways / "oak-2").exists()
        assert client.post("/api/selected/tags", json={"labels": []}).status_code == 422
        client.post("/api/selected/tags", json={"labels": ["oak-3", "oak-4"], "add": ["young"]})
        rows = client.get("/api/runs", params={"where": "tag=young"}).json()["runs"]
        assert [row["run"] for row in rows] == ["oak-3", "oak-4"]
        del client.headers["X-Vinestep-Token"]
        for path in (
            "selected/remove",
            "selected/tags",
            "views",
            "views/remove",
            "runs/oak-3/keep",
        ):
            assert client.post(f"/api/{path}", json={}).status_code == 403
        assert (ways / "oak-3").exists()
        assert "oak-3" in client.get("/api/report", params={"runs": "oak-3,oak-4"}).text


def table_of(tab):
    tab.wait_for_function("() => document.querySelector('.rows tbody .open')")
    return tab.locator(".rows tbody .open").all_inner_texts()


def told(tab, text):
    tab.wait_for_function(
        "text => document.querySelector('#told').textContent.includes(text)", arg=text
    )


def test_the_first_sheet_is_the_table_sorted_chosen_and_acted_upon(tab, own_page):
    tab.goto(own_page.address)
    assert table_of(tab) == [f"oak-{k}" for k in (6, 5, 4, 3, 2, 1)]
    assert not tab.locator("#chosen").is_visible()
    tab.fill("#column", "optimiser.rate")
    tab.press("#column", "Enter")
    tab.click("[data-sort='optimiser.rate']")
    tab.click("[data-sort='optimiser.rate']")
    tab.wait_for_selector("th[aria-sort=descending]")
    cells = tab.locator(".rows tbody tr td:nth-child(4)").all_inner_texts()
    assert cells == ["0.1"] * 3 + ["0.01"] * 3
    for label in ("oak-2", "oak-5"):
        tab.check(f".rows [data-key='tick {label}']")
    assert tab.locator("#chosen-count").inner_text() == "2 chosen"
    tab.fill("#tag", "good")
    tab.click("#tag-chosen")
    told(tab, "2 done.")
    tab.fill("#where", "tag=good; oak")
    tab.click("#filter button")
    tab.wait_for_function("() => document.querySelectorAll('.rows tbody .open').length === 2")
    tab.fill("#view-name", "the good")
    tab.click("#keep-view")
    tab.wait_for_selector("#remove-view")
    tab.goto(own_page.address)
    assert len(table_of(tab)) == 6
    tab.select_option("#view", "the good")
    tab.wait_for_function("() => document.querySelectorAll('.rows tbody .open').length === 2")
    assert "columns=optimiser.rate" in tab.url
    tab.check("#choose-all")
    tab.click("#remove-chosen")
    tab.click("#remove-now")
    told(tab, "2 done.")
    assert sorted(path.name for path in own_page.root.glob("oak-*")) == [
        f"oak-{k}" for k in (1, 3, 4, 6)
    ]


def test_conditions_are_completed(tab, own_page):
    tab.goto(own_page.address)
    table_of(tab)
    options = "() => [...document.querySelectorAll('#conditions option')].map(o => o.value)"
    tab.fill("#where", "oak; optimiser.r")
    assert "oak; optimiser.rate>" in tab.evaluate(options)
    tab.fill("#where", "status=")
    assert tab.evaluate(options) == ["status=finished"]


def test_a_run_is_kept_and_opened_from_the_table(tab, own_page):
    tab.goto(own_page.address)
    table_of(tab)
    tab.check(".rows [data-key='tick oak-2']")
    tab.fill("#keep-as", "oak")
    tab.click("#keep-chosen")
    told(tab, "Kept as oak 1.")
    tab.click("[data-key='oak-2']")
    tab.wait_for_function("() => document.querySelector('#sheet').dataset.ready === 'learning'")
    assert "runs=oak-2" in tab.url


def test_scores_by_settings_are_told_and_drawn(tab, own_page):
    tab.goto(f"{own_page.address}/?sheet=settings")
    tab.wait_for_selector("#best-way")
    said = tab.locator("#best-way").inner_text()
    means = vs.runs.seed_means(vs.runs.open(own_page.root), "best loss")
    best = means.loc[means["mean"].idxmin()]
    assert said.startswith("6 runs in 2 ways. Lowest mean of best loss: ")
    assert f"optimiser.rate {best['optimiser.rate']:g}" in said
    shown = float(re.search(r"best loss: (\S+),", said)[1])
    np.testing.assert_allclose(shown, best["mean"], rtol=1e-3)
    count = tab.evaluate(
        "() => ['by-setting', 'side-by-side'].map(key => echarts.getInstanceByDom("
        "document.querySelector(`[data-chart='${key}']`)).getOption().series.length)"
    )
    assert count == [1 + 2 + 1, 2 + 6]


def test_thousands_of_runs_scroll_and_only_those_in_sight_are_drawn(tab, tmp_path):
    for number in range(1, 1501):
        folder = tmp_path / f"oak-{number}"
        folder.mkdir()
        known = {
            "uid": f"u{number}",
            "name": "oak",
            "status": "finished",
            "reason": "",
            "epoch": 1,
            "epochs": 1,
            "step": number,
            "begun": "2026-11-20T10:00:00+00:00",
            "changed": "2026-11-20T10:00:00+00:00",
            "last": {},
        }
        (folder / "run.json").write_text(json.dumps(known))
    running = Page(tmp_path)
    try:
        tab.goto(running.address)
        assert len(table_of(tab)) < 80
        assert tab.locator("#runs li").count() == 200
        tab.evaluate("() => { document.querySelector('.rows').scrollTop = 31 * 1480; }")
        tab.wait_for_selector("[data-key='oak-1']")
        assert len(table_of(tab)) < 80
        begun = time.monotonic()
        tab.click("[data-sort=step]")
        tab.wait_for_selector("th[aria-sort=ascending]")
        assert time.monotonic() - begun < 5
    finally:
        running.stop()
