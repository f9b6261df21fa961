"""Where a result came from: versions of what computed it, and the commit of the code around it."""

from __future__ import annotations

import subprocess
from importlib.metadata import PackageNotFoundError, version
from platform import python_version

__all__ = ["commit", "versions"]

PACKAGES = ("vinestep", "numpy", "scipy", "pandas", "numba")
SECONDS = 2.0


def versions() -> dict[str, str]:
    """Versions of Python and of the libraries that compute.

    Examples
    --------
    >>> sorted(versions())[:3]
    ['numba', 'numpy', 'pandas']
    """
    found = {"python": python_version()}
    for name in PACKAGES:
        try:
            found[name] = version(name)
        except PackageNotFoundError:  # run from its sources, without being installed
            found[name] = "unknown"
    return found


def commit() -> str:
    """The commit of the repository that the process works in, with a plus sign if something is not committed; empty without git."""
    command = ["git", "describe", "--always", "--abbrev=40", "--exclude=*", "--dirty=+"]
    try:
        return subprocess.run(command, capture_output=True, text=True, timeout=SECONDS, check=True).stdout.strip()
    except (OSError, subprocess.SubprocessError):
        return ""
