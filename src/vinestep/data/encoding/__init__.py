"""Raw values to numbers and back: columns, classes, texts; and `Codec`, which holds all of it for
a model.

What enters here is learned from data once and handed on with the model.
"""
