"""Sources of examples by index: the base class, arrays, parts of sources, files of one example
each.

A source of a kind of data of its own has a room beside this one.
"""
