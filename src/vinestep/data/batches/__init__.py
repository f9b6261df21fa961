"""Minibatches: what a batch is, in which order examples come, how they are joined, augmented and
read ahead.

What enters here knows no particular source of examples, only the contract in `_contract`.
"""
