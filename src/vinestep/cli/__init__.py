"""The command-line tool: it parses, calls the library, prints, and sets the exit code."""

from .app import main

__all__ = ["main"]
