"""The tests of what changed since the last push: the files that mirror changed sources.

The rooms and arrows are always looked at. Where nothing changed, doctests stand for all the tests.
"""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]
ALWAYS = ["tests/test_architecture.py"]
SECONDS = "40"  # tests that have not begun by then are left to `make test`


def _git(*arguments):
    command = ["git", "-C", str(ROOT), *arguments]
    return subprocess.run(command, capture_output=True, text=True, check=False).stdout.split()


def changed_files():
    """Files that differ from what was pushed, or from the commit before where nothing is pushed."""
    base = (_git("merge-base", "HEAD", "@{upstream}") or ["HEAD~1"])[0]
    found = [*_git("diff", "--name-only", base), *_git("ls-files", "-o", "--exclude-standard")]
    return [Path(name) for name in found if name.endswith(".py") and (ROOT / name).exists()]


def tests_of(file):
    """The tests that mirror a file: those of its name, else those of its room."""
    if file.parts[0] == "tests":
        return [file] if file.name.startswith("test_") else []
    if file.parts[:2] != ("src", "vinestep"):
        return []
    room = Path("tests", *file.parent.parts[2:])
    named = room / f"test_{file.stem.lstrip('_')}.py"
    if (ROOT / named).exists():
        return [named, file]
    return [*(path.relative_to(ROOT) for path in sorted((ROOT / room).glob("test_*.py"))), file]


def main():
    chosen = dict.fromkeys(str(test) for file in changed_files() for test in tests_of(file))
    selected = [*ALWAYS, *(name for name in chosen if name not in ALWAYS)] if chosen else ["src"]
    options = ["-n", "auto", "-m", "not slow", "--within", SECONDS]
    command = [sys.executable, "-m", "pytest", *options, *selected]
    return subprocess.run(command, cwd=ROOT, check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
