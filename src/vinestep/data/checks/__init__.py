"""Data looked at before anything is trained on it: a summary, what is suspicious, and whether more
of it would help.

What enters here changes no data and trains nothing but copies.
"""
