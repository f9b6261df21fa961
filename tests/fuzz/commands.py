"""Command lines drawn from the tool's own description, with hostile values: each is answered, or
refused in words with exit code 2.
"""

import os
import random
import signal
import tempfile
import warnings
from functools import cache
from pathlib import Path

import typer
from typer.testing import CliRunner

import vinestep as vs
from vinestep.cli.app import app

ENDLESS = ("demo", "page", "warm")
SECONDS = 30
PLAN = """
epochs = 1
[data]
source = "b.csv"
target = "state"
[[layers]]
kind = "dense"
width = "classes"
"""


class TookTooLong(BaseException):
    pass


def _ring(*arguments):
    raise TookTooLong


@cache
def place():
    """A folder with a plan, data, a run, a model, and what is none of these."""
    base = Path(tempfile.mkdtemp())
    os.chdir(base)
    warnings.simplefilter("ignore")
    vs.demo.barrels(60).to_csv("b.csv", index=False)
    Path("plan.toml").write_text(PLAN)
    CliRunner().invoke(app, ["train", "plan.toml", "--record", "rec"])
    Path("folder").mkdir()
    Path("empty.csv").write_text("")
    Path("bytes.bin").write_bytes(bytes(range(256)))
    os.mkfifo("pipe")
    model = next(Path("rec").rglob("*.vine"), "rec")
    values = ["plan.toml", "b.csv", "rec", "rec/run-1", str(model), "folder", "empty.csv", "pipe"]
    values += ["bytes.bin", "nope", "", "-1", "0", "1e999", "nan", "x" * 3000, "a\tb", "../..", "/"]
    values += ["/dev/null", "--", "\u00e9", "\udcff", "[x]", "{}", "optimiser.rate=1", "=", "<"]
    values += ["loss<1", "a<" + " " * 400, "sqlite:////nope/x", "run-1", "latest", "1", "2026"]
    values += ["true", "stop", "csv", "state", "*", "%00", "__proto__", "5 steps", "0.001..0.1"]
    return values


def attempt(seed):
    rng = random.Random(seed)
    values, commands = place(), typer.main.get_command(app).commands
    name = rng.choice([name for name in commands if name not in ENDLESS])
    line = [name]
    for parameter in commands[name].params:
        if parameter.param_type_name == "argument":
            if rng.random() < 0.85:
                number = 1 if parameter.nargs == 1 else rng.randrange(3)
                line += [rng.choice(values) for _ in range(number)]
        elif rng.random() < 0.25:
            line.append(rng.choice(parameter.opts))
            if not parameter.is_flag:
                line.append(rng.choice(values))
    signal.signal(signal.SIGALRM, _ring)
    signal.alarm(SECONDS)
    try:
        done = CliRunner().invoke(app, line, prog_name="vinestep")
    except TookTooLong:
        return f"hung: {line}"
    finally:
        signal.alarm(0)
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        return f"raw: {type(done.exception).__name__}: {str(done.exception)[:80]}: {line}"
    return "right" if done.exit_code == 0 else "refused"
