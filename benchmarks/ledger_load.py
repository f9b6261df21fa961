"""A ledger on PostgreSQL under load: many runs at once, a server that is restarted and connections
that are cut. ``python -m benchmarks.ledger_load 50 300`` for 50 processes and 300 seconds.
"""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
from tests.postgres import Server

import vinestep as vs

__all__ = ["run"]

PERIOD, NUMBERS = 0.1, 10  # seconds from one record to the next, numbers in each
RUN = f"""
import json, sys, time
import numpy as np
import vinestep as vs
folder, seconds, seed = sys.argv[1], float(sys.argv[2]), int(sys.argv[3])
rng = np.random.default_rng(seed)
spent, steps = [], round(seconds / {PERIOD})
noise = vs.RandomStream(seed)
with vs.recorded_run({{"noise": noise}}, steps=steps, record=folder, name=f"cask-{{seed}}") as run:
    due = time.perf_counter()
    for number in run.steps():
        values = rng.normal(size={NUMBERS})
        begun = time.perf_counter()
        run.numbers(**{{f"gauge_{{i}}": float(v) for i, v in enumerate(values)}})
        spent.append(time.perf_counter() - begun)
        due += {PERIOD}
        time.sleep(max(0.0, due - time.perf_counter()))
    whole = time.perf_counter() - due + steps * {PERIOD}
print(json.dumps({{"recording": sum(spent) / steps, "worst": max(spent), "whole": whole}}))
"""


def _started(root: Path, url: str, seconds: float, count: int) -> list[subprocess.Popen[str]]:
    return [
        subprocess.Popen(
            [sys.executable, "-c", RUN, str(root / str(i)), str(seconds), str(i)],
            env=os.environ | {"VINESTEP_LEDGER": url, "OPENBLAS_NUM_THREADS": "1"},
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for i in range(count)
    ]


def _ended(processes: list[subprocess.Popen[str]]) -> list[dict[str, float]]:
    found = []
    for process in processes:
        out, error = process.communicate()
        if process.returncode:
            raise RuntimeError(error[-2000:])
        found.append(json.loads(out.strip().splitlines()[-1]))
    return found


class _Page:
    """Asks a page for its list of runs again and again."""

    def __init__(self, url: str, folder: Path) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self.address = f"http://127.0.0.1:{port}"
        command = [
            *(sys.executable, "-m", "vinestep"),
            "page",
            "--ledger",
            url,
            "--port",
            str(port),
        ]
        self.process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL)
        self.seconds: list[float] = []
        self.failed = 0
        self.ended = threading.Event()
        self.thread = threading.Thread(target=self._ask, daemon=True)
        self.thread.start()

    def _ask(self) -> None:
        while not self._opened():
            if self.ended.wait(0.5):
                return
        while not self.ended.wait(1.0):
            begun = time.perf_counter()
            try:
                self._get("/api/runs")
            except OSError:
                self.failed += 1
                continue
            self.seconds.append(time.perf_counter() - begun)

    def _get(self, path: str) -> None:
        with urllib.request.urlopen(self.address + path, timeout=20) as answer:
            answer.read()

    def _opened(self) -> bool:
        try:
            self._get("/")
        except OSError:
            return False
        return True

    def close(self) -> None:
        self.ended.set()
        self.thread.join()
        self.process.terminate()
        self.process.wait()


def _query(url: str, text: str) -> Any:
    import psycopg

    with psycopg.connect(url, autocommit=True) as connection:
        return connection.execute(text).fetchone()


def run(count: int = 50, seconds: float = 300.0, *, page: bool = True) -> dict[str, float]:
    """What 50 runs cost and lose."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        alone = _ended(_started(place / "alone", "", min(seconds, 30.0), count))
        server = Server(place / "server")
        url = server.database("runs")
        vs.runs.open(url)  # makes its tables
        asked = _Page(url, place) if page else None
        time.sleep(5.0)
        processes = _started(place / "records", url, seconds, count)
        time.sleep(2.0 * count / (os.cpu_count() or 1))  # until all have begun
        begun = time.perf_counter()
        for share in (0.3, 0.6):
            time.sleep(max(0.0, begun + share * seconds - time.perf_counter()))
            server.kill()
            time.sleep(3.0)
            server.start()
            time.sleep(5.0)
            _query(
                url,
                "select count(pg_terminate_backend(pid)) from pg_stat_activity "
                "where datname = 'runs' and pid <> pg_backend_pid()",
            )
        found = _ended(processes)
        if asked is not None:
            asked.close()
        for i in range(count):  # what was left when a process ended while the server was away
            vs.runs.open(place / "records" / str(i), ledger=url)
        wanted = list(range(1, round(seconds / PERIOD) + 1))
        lost = double = 0
        for run in vs.runs.open(url):
            steps = run.series("steps")["step"].tolist()
            lost += len(set(wanted) - set(steps))
            double += len(steps) - len(set(steps))
        (size,) = _query(
            url,
            "select sum(pg_total_relation_size(oid)) from pg_class where relkind = 'r' "
            "and relname in ('chunks', 'scores', 'taken', 'runs')",
        )
        (figures,) = _query(url, "select pg_total_relation_size('contents')")
        server.kill()
    recorded = [one["recording"] for one in found]
    numbers = count * len(wanted) * (NUMBERS + 1)
    return {
        "runs": count,
        "numbers": numbers,
        "recording a row, of its period, %": 100 * float(np.mean(recorded)) / PERIOD,
        "the same without a ledger, %": 100
        * float(np.mean([one["recording"] for one in alone]))
        / PERIOD,
        "slowest run, of the planned time, %": 100 * max(one["whole"] for one in found) / seconds,
        "rows lost": lost,
        "rows double": double,
        "bytes a number, with scores and marks": float(size) / numbers,
        "bytes of figures and files": figures,
        **(
            {
                "page, slowest answer, s": max(asked.seconds),
                "page, median answer, s": float(np.median(asked.seconds)),
                "page, refused while the server was away": asked.failed,
            }
            if asked is not None
            else {}
        ),
    }


if __name__ == "__main__":
    for name, value in run(int(sys.argv[1]), float(sys.argv[2])).items():
        print(f"{name:45} {value:,.4g}")
