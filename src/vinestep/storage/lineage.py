"""Where a result came from: versions of what computed it, and the commit of the code around it."""

from __future__ import annotations

import getpass
import os
import platform
import subprocess
import sys
from datetime import datetime
from functools import cache
from importlib.metadata import PackageNotFoundError, version
from platform import python_version

__all__ = ["commit", "machine", "now", "uncommitted", "user", "versions"]

PACKAGES = ("vinestep", "numpy", "scipy", "pandas", "numba")
SECONDS = 2.0
MOST_PATCH = 256 << 10  # bytes


def user() -> str:
    """Who is at work here, as the system calls them.

    Examples
    --------
    >>> bool(user())
    True
    """
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return "unknown"


def versions() -> dict[str, str]:
    """Versions of Python and of the libraries that compute.

    Examples
    --------
    >>> sorted(versions())[:3]
    ['numba', 'numpy', 'pandas']
    """
    return dict(_versions())


@cache
def _versions() -> dict[str, str]:
    result = {"python": python_version()}
    for name in PACKAGES:
        try:
            result[name] = version(name)
        except PackageNotFoundError:  # run from its sources, without being installed
            result[name] = "unknown"
    return result


def commit() -> str:
    """The commit of the repository that the process works in, with a plus sign if something is not
    committed; empty without git.
    """
    return _git("describe", "--always", "--abbrev=40", "--exclude=*", "--dirty=+").strip()


def uncommitted() -> str:
    """What differs from the commit, as a patch, with the names of files that git does not know; cut
    at 256 kB. Empty without git.
    """
    patch = _git("diff", "HEAD", "--no-color")
    unknown = _git("ls-files", "--others", "--exclude-standard")
    result = patch + ("".join(f"# not known to git: {name}\n" for name in unknown.splitlines()))
    if len(result) <= MOST_PATCH:
        return result
    return result[:MOST_PATCH] + f"\n# cut here: {len(result) - MOST_PATCH} more characters\n"


def _git(*arguments: str) -> str:
    try:
        result = subprocess.run(
            ["git", *arguments],
            capture_output=True,
            text=True,
            errors="replace",
            timeout=SECONDS,
            check=True,
        )
    except (OSError, subprocess.SubprocessError):
        return ""
    return result.stdout


def now() -> str:
    """The time, as records have it: local, to the second, with its zone."""
    return datetime.now().astimezone().isoformat(timespec="seconds")


def machine() -> dict[str, str | int]:
    """Where a run takes place.

    Examples
    --------
    >>> sorted(machine())
    ['host', 'processors', 'system']
    """
    return {
        "host": platform.node(),
        "system": f"{sys.platform} {platform.machine()}",
        "processors": os.cpu_count() or 1,
    }
