"""One run: its position, observers, ending, validation, attachments, signals, and how it goes on.

What enters here knows how steps follow one another, not how one is made.
"""
