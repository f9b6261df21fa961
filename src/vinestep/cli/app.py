"""The application with its commands, in the order of the work."""

from __future__ import annotations

import io
import logging
import sys

# isort: off
# these modules add their commands, which help lists in this order
from . import preflight, training, runs, page, models  # noqa: F401

# isort: on
from .shared import app

__all__ = ["app", "main"]


def main() -> None:
    """Entry point of the command `vinestep`."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # what a terminal can not show is told by number
            stream.reconfigure(errors="backslashreplace")
    logging.basicConfig(stream=sys.stderr, format="vinestep: %(message)s")
    app(prog_name="vinestep")
