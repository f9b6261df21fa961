"""The command-line tool, as a user starts it, or in this process where only its words matter."""

import os
import subprocess
import sys
from contextlib import chdir
from types import SimpleNamespace

WIDE = {"COLUMNS": "100"}


def vinestep(*arguments, cwd, **options):
    """In a process of its own."""
    command = [sys.executable, "-m", "vinestep", *map(str, arguments)]
    return subprocess.run(
        command, cwd=cwd, capture_output=True, text=True, env=os.environ | WIDE, **options
    )


def vinestep_here(*arguments, cwd, input=None):
    """In this process: a tenth of the time."""
    from typer.testing import CliRunner

    from vinestep.cli.app import app

    with chdir(cwd):
        done = CliRunner().invoke(
            app, list(map(str, arguments)), input=input, env=WIDE, prog_name="vinestep"
        )
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        raise done.exception
    return SimpleNamespace(returncode=done.exit_code, stdout=done.stdout, stderr=done.stderr)
