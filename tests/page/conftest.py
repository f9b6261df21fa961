"""Runs to be looked at, the page on a port, and a browser."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request

import numpy as np
import pandas as pd
import pytest

import vinestep as vs

from ..postgres import missing

BROWSERS = ("chromium", "chromium-browser", "google-chrome")
FLAGS = [
    *("--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"),
    *("--disable-background-networking", "--disable-component-update", "--disable-sync"),
]


def leaves_run(root, rate=0.01, epochs=8, name="leaves", observers=(), seed=1):
    """A small run on made-up pictures, with everything recorded."""
    leaves = vs.demo.leaves(160, seed=0)
    data = vs.data.Dataset(leaves.pictures.astype(np.float32)[:, ::2, ::2], leaves.labels)
    train, validation = data.split(0.7, 0.3, seed=0)
    network = vs.Stack(
        vs.Convolution(4, 3),
        vs.relu,
        vs.MaxPool(2),
        vs.Flatten(),
        vs.Dense(12, vs.relu),
        vs.Dense(6),
    )
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        metrics=[vs.metrics.accuracy],
        optimiser=vs.optimisers.Adam(rate),
        seed=seed,
    )
    o = vs.observers
    looking = [
        o.Steps(),
        o.Norms(4),
        o.Distributions(8),
        o.Samples(16),
        o.Machine(0.2),
        o.Checkpoints("best"),
        *observers,
    ]
    return training.run(
        train.batches(16),
        epochs=epochs,
        validation=validation.batches(64),
        observers=looking,
        record=root,
        name=name,
    )


class KillLayer(vs.observers.Observer):
    def after_epoch(self, run, row):
        if row["epoch"] == 4:
            network = run.parts[""].network
            network.load(
                network.weights() | {"4/bias": np.full_like(network.weights()["4/bias"], -1e4)}
            )


@pytest.fixture(scope="session")
def twelve(tmp_path_factory):
    """A folder of 12 runs: rates from small to large, the last one with a dead layer."""
    root = tmp_path_factory.mktemp("records")
    for rate in np.geomspace(3e-4, 3e-2, 11):
        leaves_run(root, float(rate), epochs=6)
    leaves_run(root, 0.005, observers=[KillLayer()], name="broken")
    vs.catalogue.keep(vs.runs.open(root)["leaves-6"], "leaves", note="the first that was good")
    vs.catalogue.mark_in_use(root, "leaves", 1)
    return root


class Page:
    """The page in a process of its own."""

    def __init__(self, root, port=0, **environment):
        self.root, self.environment = root, environment
        self.start(port)

    def start(self, port=0):
        command = [
            sys.executable,
            "-m",
            "vinestep",
            "page",
            "--record",
            str(self.root),
            "--port",
            str(port),
        ]
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, **self.environment},
        )
        line = self.process.stdout.readline()
        assert line.startswith("http://"), self.process.stderr.read()
        self.address = line.split()[0].rstrip("/")
        self.port = int(self.address.rpartition(":")[2])
        for _ in range(100):
            try:
                urllib.request.urlopen(f"{self.address}/api/runs", timeout=5)
                return
            except OSError:
                time.sleep(0.05)

    def stop(self, how=signal.SIGINT):
        self.process.send_signal(how)
        self.process.communicate(timeout=20)


@pytest.fixture(scope="session")
def page(twelve):
    running = Page(twelve)
    yield running
    running.stop()


@pytest.fixture(scope="session")
def large(tmp_path_factory):
    """A run of 200,000 steps with 20 quantities, and 500 runs of 200."""
    root = tmp_path_factory.mktemp("large")
    rng = np.random.default_rng(0)

    def series(n, columns):
        steps = np.arange(1, n + 1)
        values = np.exp(-steps / n)[:, None] + 0.1 * rng.normal(size=(n, columns))
        names = ["loss", *(f"figure_{i}" for i in range(1, columns))]
        table = np.concatenate(
            [
                steps[:, None],
                (steps // 100)[:, None],
                steps[:, None] / 100,
                steps[:, None] * 32,
                values,
            ],
            axis=1,
        )
        return pd.DataFrame(table, columns=["step", "epoch", "seconds", "examples", *names]).to_csv(
            index=False
        )

    small = series(200, 2)
    for number in range(1, 502):
        folder = root / f"many-{number}"
        folder.mkdir()
        (folder / "steps.csv").write_text(series(200_000, 20) if number == 501 else small)
        known = {
            "uid": f"u{number}",
            "name": "many",
            "status": "finished",
            "reason": "All done.",
            "epoch": 0,
            "epochs": 0,
            "step": 200,
            "begun": "2026-11-20T10:00:00+00:00",
            "changed": "2026-11-20T10:00:00+00:00",
            "last": {},
        }
        (folder / "run.json").write_text(json.dumps(known))
        (folder / "about.json").write_text(
            json.dumps({"settings": {"optimiser": {"kind": "adam", "rate": 0.001 * number}}})
        )
    vs.runs.open(root)
    yield root
    shutil.rmtree(root)


@pytest.fixture(scope="session")
def large_page(large):
    running = Page(large)
    yield running
    running.stop()


@pytest.fixture(scope="session")
def chromium():
    found = next(filter(None, map(shutil.which, BROWSERS)), None) or missing("Chromium")
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=found, args=FLAGS)
        yield browser
        browser.close()


@pytest.fixture
def tab(chromium):
    """A tab of its own; what goes wrong in its scripts fails the test."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    opened = context.new_page()
    troubles = []
    opened.on("pageerror", lambda error: troubles.append(str(error)))
    opened.set_default_timeout(10_000)
    yield opened
    context.close()
    assert not troubles
