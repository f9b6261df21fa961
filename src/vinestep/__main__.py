"""``python -m vinestep`` is `vinestep`."""

from .cli import main

main()
