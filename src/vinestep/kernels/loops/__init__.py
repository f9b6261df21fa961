"""Loops over arrays, compiled when first called. `adam` is a short one to begin with.

A loop is a Python function with `@kernel`; with `@inner_kernel` if only other loops call it, by
``call(loop, *arguments)``. A parallel one is given the board and the number of threads, and
distributes a loop over one part of the work: ``call(distribute, board, parts, job(part_of_it,
(arguments, ...)))``. A loop checks nothing: the form of its operation does, once a call.
"""
