"""The rehearsal of a run: checks that look for what would waste hours, on a copy of everything.

A check takes a `Stage` and yields findings; it enters the list of `_rehearsal` with one line.
"""
