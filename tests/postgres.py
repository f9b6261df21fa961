"""A PostgreSQL server of the tests' own, on a free port of the loopback."""

import contextlib
import os
import shutil
import signal
import socket
import subprocess
import time
from pathlib import Path

import pytest

MUST = os.environ.get("VINESTEP_TEST_ALL")  # set in CI: what is not there is a failure, not a skip


def missing(what):
    if MUST:
        pytest.fail(f"{what} is not installed, and VINESTEP_TEST_ALL says that it must be.")
    pytest.skip(f"{what} is not installed")


def binaries():
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/postgres"))
    if found:
        return found[-1].parent
    own = shutil.which("postgres")
    return Path(own).resolve().parent if own else missing("PostgreSQL")


class Server:
    """Started in a folder; can be killed and started again."""

    def __init__(self, folder):
        self.bin, self.folder = binaries(), Path(folder)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        self.user = (
            {"user": "nobody"} if os.geteuid() == 0 else {}
        )  # PostgreSQL refuses to run as root
        self.folder.mkdir(parents=True, exist_ok=True)
        for place in (self.folder, *self.folder.parents):
            with contextlib.suppress(OSError):
                if self.user and place.owner() == "root" and place != Path("/"):
                    place.chmod(place.stat().st_mode | 0o055)
        if self.user:
            shutil.chown(self.folder, "nobody")
        self.data = self.folder / "data"
        self._run("initdb", "-D", self.data, "-A", "trust", "-U", "cellar", "--no-sync")
        self.process = None
        self.start()

    def _run(self, name, *arguments):
        subprocess.run(
            [self.bin / name, *map(str, arguments)],
            check=True,
            capture_output=True,
            cwd="/",
            **self.user,
        )

    def start(self):
        options = [
            "-D",
            self.data,
            "-p",
            str(self.port),
            "-k",
            self.folder,
            "-c",
            "listen_addresses=127.0.0.1",
            "-c",
            "fsync=off",
        ]
        log = (self.folder / "log").open("ab")
        self.process = subprocess.Popen(
            [self.bin / "postgres", *map(str, options)],
            stdout=log,
            stderr=log,
            cwd="/",
            **self.user,
        )
        for _ in range(400):
            with (
                contextlib.suppress(OSError),
                socket.create_connection(("127.0.0.1", self.port), 0.2),
            ):
                if self._answers():
                    return
            time.sleep(0.05)
            if self.process.poll() is not None:  # what a killed server leaves takes a moment to go
                self.process = subprocess.Popen(
                    [self.bin / "postgres", *map(str, options)],
                    stdout=log,
                    stderr=log,
                    cwd="/",
                    **self.user,
                )
        raise RuntimeError((self.folder / "log").read_text()[-2000:])

    def _answers(self):
        import psycopg

        try:
            psycopg.connect(
                f"postgresql://cellar@127.0.0.1:{self.port}/postgres", connect_timeout=2
            ).close()
        except psycopg.OperationalError:
            return False
        return True

    def kill(self):
        """As if the machine had died: its children end with it."""
        self.process.send_signal(signal.SIGQUIT)
        self.process.wait()

    def url(self, name="postgres"):
        return f"postgresql://cellar@127.0.0.1:{self.port}/{name}"

    def database(self, name):
        self._run("createdb", "-h", "127.0.0.1", "-p", self.port, "-U", "cellar", name)
        return self.url(name)
