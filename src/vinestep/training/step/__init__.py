"""One step: forward pass, loss, derivative, clipping, update, running averages, half precision;
and scores in inference.

What enters here knows nothing of runs, records and observers.
"""
