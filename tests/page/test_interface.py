"""The JSON interface: what it says, what it refuses, and that its description tells the truth."""

import http.client
import json
import socket
import threading
import time
import urllib.request

import numpy as np
import pytest
import uvicorn
from starlette.testclient import TestClient

import vinestep as vs
from vinestep._trend import slope_of, thinned, trend_of
from vinestep.page import make_app, serving
from vinestep.page.security import HEADER, Door
from vinestep.page.views import Series

HERE = "http://127.0.0.1"


@pytest.fixture
def client(twelve):
    app = make_app(vs.runs.open(twelve))
    with TestClient(app, base_url=HERE) as made:
        made.headers["host"] = "127.0.0.1"
        made.token = app.state.door.token
        yield made


def test_every_path_of_the_description_answers(client):
    described = client.get("/api/openapi.json").json()
    values = {"label": "leaves-6", "name": "steps", "version": "1"}
    queries = {
        "/api/curves": "?runs=leaves-6&figure=loss",
        "/api/curves.csv": "?runs=leaves-6&figure=loss",
        "/api/compare": "?runs=leaves-6,leaves-2",
        "/api/report": "?runs=leaves-6",
    }
    asked = 0
    for path, operations in described["paths"].items():
        if "get" not in operations or path == "/api/events":
            continue
        given = values | (
            {"name": "curves.png"}
            if "files" in path
            else {"name": "leaves"}
            if "models" in path
            else {}
        )
        query = queries.get(path, "?run=leaves-9" if "differences" in path else "")
        found = client.get(path.format(**given) + query)
        assert found.status_code == 200, (path, found.text)
        assert operations["get"]["summary"]
        asked += 1
    assert asked >= 11


def test_the_library_and_the_interface_say_the_same(client, twelve):
    run = vs.runs.open(twelve)["leaves-6"]
    assert [a["evidence"] for a in client.get("/api/runs/leaves-6/answers").json()["answers"]] == [
        a.evidence for a in run.diagnose()
    ]
    found = client.get("/api/runs/leaves-6").json()
    assert found["settings"]["optimiser.rate"] == run.settings["optimiser.rate"]
    listed = client.get(
        "/api/runs", params={"where": "optimiser.rate>0.01", "sort": "-best validation_accuracy"}
    ).json()["runs"]
    assert [row["run"] for row in listed] == vs.runs.open(twelve).table(
        where=["optimiser.rate>0.01"], sort="-best validation_accuracy"
    )["run"].tolist()


@pytest.mark.parametrize(
    ("path", "status", "text"),
    [
        ("/api/runs/no-such-run", 404, "There is no run 'no-such-run'"),
        ("/api/runs?where=rate", 400, "is no condition"),
        ("/api/runs?where=optimiser.rte>1", 400, "Did you mean 'optimiser.rate'?"),
        (
            "/api/curves?runs=leaves-1&figure=loss&against=moon",
            400,
            "epoch, step, examples or seconds",
        ),
        ("/api/curves?runs=&figure=loss", 400, "1 to 60 runs"),
        ("/api/curves?runs=leaves-1", 422, "figure"),
        ("/api/runs/leaves-1/series/nothing", 404, "has no series"),
        ("/api/compare?runs=leaves-1", 400, "at least two"),
        ("/api/models/none/3/differences?run=leaves-1", 400, "no model 'none'"),
    ],
)
def test_bad_questions_are_refused_in_words(client, path, status, text):
    found = client.get(path)
    assert found.status_code == status, found.text
    assert text in json.dumps(found.json()["detail"], ensure_ascii=False)


# who may ask


@pytest.mark.parametrize(
    "path",
    [
        "/api/runs/leaves-6/files/..%2f..%2fledger.sqlite",
        "/api/runs/leaves-6/files/../../../etc/passwd",
        "/api/runs/leaves-6/files/%2e%2e%2frun.json",
        "/api/runs/leaves-6/files/.lock",
        "/api/runs/..%2f..%2f/files/run.json",
        "/static/../app.py",
        "/static/..%2fapp.py",
        "/static/%2e%2e/security.py",
        "/api/runs/leaves-6/series/..%2fsteps",
        "/api/runs/%2fetc/files/passwd",
    ],
)
def test_no_path_leads_out_of_the_record(client, path):
    found = client.get(path)
    assert found.status_code in (400, 404, 405), found.text
    assert "root:" not in found.text
    assert "import" not in found.text


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"host": "evil.example"}, 421),
        ({"host": "evil.example:8765"}, 421),
        ({"host": "127.0.0.1.evil.example"}, 421),
        ({"host": ""}, 421),
        ({"host": "127.0.0.1", "origin": "http://evil.example"}, 403),
        ({"host": "127.0.0.1", "origin": "null"}, 403),
        ({"host": "127.0.0.1:1", "origin": "http://127.0.0.1:2"}, 403),
        ({"host": "localhost:8765"}, 200),
        ({"host": "[::1]:8765"}, 200),
        ({"host": "127.0.0.1:9", "origin": "http://127.0.0.1:9"}, 200),
    ],
)
def test_a_foreign_name_or_page_is_refused(client, headers, status):
    assert client.get("/api/runs", headers=headers).status_code == status


@pytest.mark.parametrize("path", ["ask", "notes", "tags"])
def test_nothing_is_changed_without_the_token_in_the_header(client, twelve, path):
    body = {"ask": {"what": "stop"}, "notes": {"text": "sly"}, "tags": {"add": ["sly"]}}[path]
    address = f"/api/runs/leaves-2/{path}"
    before = vs.runs.open(twelve)["leaves-2"].as_dict()
    for headers in (
        {},
        {HEADER: "wrong"},
        {"cookie": f"vinestep_token_80={client.token}"},
        {HEADER: client.token, "origin": "http://evil.example"},
    ):
        assert client.post(address, json=body, headers=headers).status_code == 403
    assert client.post(f"{address}?token={client.token}", json=body).status_code == 403
    assert client.get(address).status_code in (404, 405)
    assert vs.runs.open(twelve)["leaves-2"].as_dict() == before
    found = client.post(address, json=body, headers={HEADER: client.token})
    assert found.status_code == (400 if path == "ask" else 200), found.text
    if path == "ask":
        assert "nobody is at work on this run" in found.json()["detail"]


def test_beyond_this_machine_everything_needs_the_token(twelve):
    door = Door(("cellar.example",), open_here=False)
    with TestClient(
        make_app(vs.runs.open(twelve), door), base_url="http://cellar.example"
    ) as client:
        for path in (
            "/",
            "/api/runs",
            "/static/main.js",
            "/api/openapi.json",
            "/api/runs/leaves-1/files/about.json",
        ):
            assert client.get(path).status_code == 401
        assert client.get("/?token=wrong").status_code == 401
        found = client.get(f"/?token={door.token}&sheet=layers", follow_redirects=False)
        assert found.status_code == 307
        assert found.headers["location"] == "/?sheet=layers"
        assert "httponly" in found.headers["set-cookie"].lower()
        assert client.get("/").status_code == 200
        assert client.get("/api/runs").status_code == 200
        assert client.post("/api/runs/leaves-1/notes", json={"text": "x"}).status_code == 403


def test_the_page_runs_no_scripts_but_its_own(client):
    found = client.get("/")
    policy = found.headers["content-security-policy"]
    assert "default-src 'self'" in policy
    assert "unsafe-inline" not in policy.replace("style-src 'self' 'unsafe-inline'", "")
    assert found.headers["x-content-type-options"] == "nosniff"
    assert "<script>" not in found.text


# thinning and trends


def test_peaks_survive_thinning(rng):
    y = rng.normal(size=100_000)
    y[[12_345, 77_777]] = [40.0, -40.0]
    kept = thinned(np.arange(100_000.0), y, 1000)
    assert len(kept) <= 1000
    assert {0, 12_345, 77_777, 99_999} <= set(kept.tolist())
    for a in range(0, 100_000, 10_000):
        part = kept[(kept >= a) & (kept < a + 10_000)]
        assert y[part].max() == y[a : a + 10_000].max()
        assert y[part].min() == y[a : a + 10_000].min()
    assert thinned(np.arange(5.0), np.full(5, np.nan), 3).tolist() == [0, 4]


def test_the_trend_is_the_local_line_and_its_band_holds(rng):
    x = np.arange(200.0)
    truth = np.sin(x / 30)
    held = []
    for _ in range(60):
        found = trend_of(x, truth + 0.3 * rng.normal(size=200), share=0.2)
        at = np.sin(found.at / 30)
        held.append(((found.low <= at) & (at <= found.high)).mean())
    assert 0.85 < np.mean(held) < 0.99
    slope, error = slope_of(x, 2 * x + rng.normal(size=200))
    assert abs(slope - 2) < 4 * error
    design = np.stack([x, np.ones(200)], axis=1)
    y = rng.normal(size=200)
    expected, left = np.linalg.lstsq(design, y, rcond=None)[:2]
    assert slope_of(x, y)[0] == pytest.approx(expected[0])
    assert slope_of(x, y)[1] == pytest.approx(np.sqrt(left[0] / 198 / ((x - x.mean()) ** 2).sum()))


def test_series_are_kept_up_to_a_number_of_bytes(twelve, monkeypatch):
    import vinestep.page.views as looking

    kept, runs = Series(), vs.runs.open(twelve)
    monkeypatch.setattr(looking, "MOST_BYTES", 4000)
    for run in runs:
        frame = kept.get(run, "steps")
        assert kept.get(run, "steps") is frame
    assert kept._bytes <= 4000 + frame.memory_usage(index=False).sum()
    assert len(kept._kept) < 12


def test_what_no_request_of_the_page_looks_like_is_refused_in_words(client):
    token = {HEADER: client.token}
    for path in ("/api/runs/%00", "/api/runs/leaves-1/files/%00", "/api/runs?name=%00"):
        assert client.get(path).status_code == 400
    for path in ("/api/runs/__proto__", "/api/runs/constructor", "/api/runs/%E2%80%AE"):
        found = client.get(path)
        assert found.status_code in (400, 404)
        assert "detail" in found.json()
    assert client.get("/api/runs?where=" + "a" * 20_000).status_code == 414
    found = client.post(
        "/api/runs/leaves-1/notes",
        content=b"x" * 300_000,
        headers=token | {"content-type": "application/json"},
    )
    assert found.status_code == 413
    assert client.get("/api/runs", headers={HEADER: b"\xe9"}).status_code == 200


@pytest.mark.parametrize("site", ["cross-site", "same-site"])
def test_other_sites_may_only_link_to_the_page(client, site):
    from_image = {"sec-fetch-site": site, "sec-fetch-mode": "no-cors"}
    assert client.get("/api/runs", headers=from_image).status_code == 403
    followed = {"sec-fetch-site": site, "sec-fetch-mode": "navigate"}
    assert client.get("/", headers=followed).status_code == 200
    assert client.post("/api/runs/leaves-1/notes", headers=followed).status_code == 403


def test_a_condition_of_blanks_costs_nothing(client):
    import time

    begun = time.perf_counter()
    found = client.get("/api/runs", params={"where": "a" + " " * 900 + "!"})
    assert found.status_code == 400
    assert time.perf_counter() - begun < 5


def test_a_link_in_a_run_folder_is_not_served(client, twelve, tmp_path):
    secret = tmp_path / "secret.txt"
    secret.write_text("who reads this")
    link = twelve / "leaves-1" / "notes.txt"
    link.symlink_to(secret)
    try:
        found = client.get("/api/runs/leaves-1/files/notes.txt")
        assert found.status_code in (400, 404)
        assert "who reads this" not in found.text
    finally:
        link.unlink()


def test_two_pages_on_one_machine_do_not_share_their_cookie(twelve):
    names = set()
    for port in (8765, 8766):
        door = Door(("cellar.example",), open_here=False)
        with TestClient(
            make_app(vs.runs.open(twelve), door), base_url=f"http://cellar.example:{port}"
        ) as other:
            found = other.get(f"/?token={door.token}", follow_redirects=False)
            names.add(found.headers["set-cookie"].partition("=")[0])
    assert len(names) == 2


@pytest.fixture
def with_timeout(monkeypatch, twelve):
    """The page on a port, with half a second for a request to be whole."""
    monkeypatch.setattr(serving, "REQUEST_TIMEOUT", 0.5)
    app = make_app(vs.runs.open(twelve))
    config = uvicorn.Config(app, log_level="warning", http=serving.request_timeout_protocol())
    server, listening = uvicorn.Server(config), socket.socket()
    listening.bind(("127.0.0.1", 0))
    thread = threading.Thread(target=server.run, kwargs={"sockets": [listening]})
    thread.start()
    while not server.started:
        time.sleep(0.01)
    yield listening.getsockname(), app.state.door.token
    server.should_exit = True
    thread.join()


HEAD = "Host: 127.0.0.1:{port}\r\n"
NOTE = (
    "POST /api/runs/leaves-1/notes HTTP/1.1\r\nX-Vinestep-Token: {token}\r\nContent-Length: 40\r\n"
)


@pytest.mark.parametrize(
    "begun", ["", "GET /api/ru", "GET / HTTP/1.1\r\n" + HEAD, NOTE + HEAD + '\r\n{{"text": "s']
)
def test_a_request_that_does_not_end_is_not_waited_for(with_timeout, begun):
    address, token = with_timeout
    with socket.create_connection(address) as client:
        client.settimeout(10)
        sent = begun.format(port=address[1], token=token).encode()
        for byte in range(0, len(sent), 16):
            client.sendall(sent[byte : byte + 16])
        began = time.monotonic()
        client.recv(1000)
        assert time.monotonic() - began < 8
    assert urllib.request.urlopen(f"http://127.0.0.1:{address[1]}/api/runs").status == 200


def test_requests_after_one_another_take_as_long_as_they_like(with_timeout):
    (_, port), _ = with_timeout
    client = http.client.HTTPConnection("127.0.0.1", port)
    for _ in range(3):
        client.request("GET", "/api/runs")
        assert client.getresponse().read()
        time.sleep(0.7)


def test_what_mattered_and_a_study_are_told(tmp_path):
    x = np.random.default_rng(0).normal(size=(60, 3))

    def fit(train, seed, **options):
        optimiser = vs.optimisers.Adam(0.1)
        training = vs.Training(vs.Dense(1), task=vs.tasks.Numbers(), optimiser=optimiser, seed=seed)
        part, held = train.split(0.7, 0.3, seed=seed)
        observers = [vs.observers.Attributions(2)]
        training.run(
            part.batches(5),
            validation=held.batches(64),
            epochs=12,
            observers=observers,
            **options,
        )
        return training

    data = vs.data.Dataset(x, 3 * x[:, 1:2])
    folds = vs.training.cross_validate(fit, data, folds=3, record=tmp_path)
    alone = fit(data, 0, record=tmp_path, name="alone")
    with TestClient(make_app(vs.runs.open(tmp_path)), base_url=HERE) as client:
        client.headers["host"] = "127.0.0.1"
        mattered = client.get("/api/runs/fold-1.2-2/attributions").json()
        study = client.get("/api/runs/fold-1.2-2/study").json()
        none = client.get("/api/runs/alone-4/study").json()
        looks = client.get("/api/runs/alone-4/looks").json()
    assert mattered["importances"][0]["column"] == "1"
    assert mattered["sentence"].startswith("Without 1 the loss rises by ")
    assert mattered["pictures"] == {
        "dependence": f"attribution-dependence-{mattered['step']:08d}.png"
    }
    assert not [name for name in looks["others"] if "attribution" in name]
    assert study["kind"] == "cross-validation"
    assert [row[0] for row in study["rows"]] == ["fold-1.1-1", "fold-1.2-2", "fold-1.3-3"]
    assert study["summary"][0]["mean"] == folds.summary()["mean"].iloc[0]
    assert (none, alone.ended.value) == ({}, "finished")


def test_no_winner_is_named_among_seeds_of_one_way(tmp_path):
    x = np.random.default_rng(0).normal(size=(60, 3))
    train, validation = vs.data.Dataset(x, x[:, :1]).split(0.7, 0.3, seed=0)
    for seed in range(3):
        training = vs.Training(vs.Dense(1), task=vs.tasks.Numbers(), seed=seed)
        training.run(
            train.batches(10), validation=validation.batches(30), epochs=3, record=tmp_path
        )
    with TestClient(make_app(vs.runs.open(tmp_path)), base_url=HERE) as client:
        client.headers["host"] = "127.0.0.1"
        found = client.get("/api/compare?runs=run-1,run-2,run-3").json()["difference"]
        lacking = client.get("/api/compare?runs=run-1,run-2&figure=accuracy").json()
    assert found["verdict"] == "not tested"
    assert found["of_seeds"] is True
    assert "equal but for their seed" in found["evidence"]
    assert lacking["difference"] is None
