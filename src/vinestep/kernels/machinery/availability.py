"""Whether loops can be trusted with the installed versions of Numba and llvmlite, or definitions
run in their place.

Found out once a process, at the first use: by the names that are needed, and once a machine and
version by a test in child processes, where what can not be trusted may crash.
"""

from __future__ import annotations

import hashlib
import logging
import os
import platform
import subprocess
import sys
import tempfile
import threading
import warnings
from importlib import metadata
from pathlib import Path

from ...errors import KernelsWarning
from .unsound import Unsound

__all__ = ["SWITCH", "TESTED", "Unsound", "announce_compiling", "give_up", "usable"]

TESTED = "numba>=0.63,<0.69"
SECONDS = 120  # for a child process

log = logging.getLogger("vinestep")


class Switch:
    """Whether loops run; None until somebody asks. ``VINESTEP_KERNELS=off`` in the environment
    turns them off.
    """

    def __init__(self) -> None:
        self.on: bool | None = False if os.environ.get("VINESTEP_KERNELS", "on") == "off" else None
        self.told = False
        self._deciding = threading.RLock()

    def decide(self) -> bool:
        with self._deciding:
            if self.on is None:
                reason = _trouble()
                if reason:
                    self.turn_off(reason)
                else:
                    self.on = True
            return bool(self.on)

    def turn_off(self, reason: str) -> None:
        """For the rest of the process, with one warning."""
        with self._deciding:
            if self.on is not False:
                self.on = False
                warnings.warn(
                    f"Compiled loops do not work here ({reason}). The definitions of the "
                    "operations run in their place, in NumPy: the same "
                    "results, several times slower. Install what was tested: pip install "
                    f"'{TESTED}'",
                    KernelsWarning,
                    stacklevel=4,
                )


SWITCH = Switch()


def usable() -> bool:
    """Whether loops run."""
    on = SWITCH.on
    return SWITCH.decide() if on is None else on


def give_up(error: Unsound) -> None:
    """No loops from now on."""
    SWITCH.turn_off(str(error))


def announce_compiling() -> None:
    if not SWITCH.told:
        SWITCH.told = True
        log.warning("Compiling kernels for this machine; this happens once and takes some seconds.")


def _trouble() -> str:
    """Why loops can not be used, or nothing."""
    try:
        from .numba_internals import missing

        gone = missing()
        if gone:
            return f"{_versions()} without {', '.join(gone[:3])}"
        from .self_test import answer
    except Exception as error:
        return f"{_versions()}: {type(error).__name__}: {error}"
    proof = Path(answer.stats.cache_path) / f"sound-{_digest()}"
    if proof.exists():
        return ""
    announce_compiling()
    trouble = _tested()
    if not trouble:
        try:
            proof.parent.mkdir(parents=True, exist_ok=True)
            proof.touch()
        except OSError as error:
            log.info("The test of compiled loops will run again in the next process: %s", error)
    return trouble


def _versions() -> str:
    result = []
    for name in ("numba", "llvmlite"):
        try:
            result.append(f"{name} {metadata.version(name)}")
        except metadata.PackageNotFoundError:
            result.append(f"no {name}")
    return ", ".join(result)


def _digest() -> str:
    from .compilation import SOURCES

    here = [
        SOURCES,
        _versions(),
        sys.version,
        platform.machine(),
        platform.node(),
        platform.platform(),
    ]
    return hashlib.sha256("\n".join(here).encode()).hexdigest()[:20]


def _tested() -> str:
    """What goes wrong in a process that compiles, and in one that finds its work on disk; nothing
    if all is well.
    """
    if not sys.executable:
        return ""
    with tempfile.TemporaryDirectory() as folder:
        environment = os.environ | {
            "NUMBA_CACHE_DIR": folder,
            "PYTHONPATH": os.pathsep.join(path for path in sys.path if path),
        }
        for way in ("compiled", "from the cache"):
            command = [
                sys.executable,
                "-c",
                f"from {__package__} import self_test; self_test.main()",
            ]
            try:
                done = subprocess.run(
                    command,
                    env=environment,
                    capture_output=True,
                    text=True,
                    timeout=SECONDS,
                    check=False,
                )
            except (OSError, subprocess.TimeoutExpired) as error:
                return f"{_versions()}: the self-test could not be run: {error}"
            if done.returncode:
                last = (done.stderr.strip().splitlines() or ["no message"])[-1]
                return f"{_versions()}: the self-test, {way}, ended with {done.returncode}: {last}"
    return ""
