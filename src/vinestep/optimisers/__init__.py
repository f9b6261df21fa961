"""Optimisers: update rules over the flat arena."""

from ..errors import names_of
from .adam import Adam, AdamW, AMSGrad, NAdam, RAdam
from .adaptive import Adadelta, Adagrad, RMSprop
from .base import Optimiser
from .large_batch import LAMB, Lion
from .quasi_newton import LBFGS
from .sgd import SGD

__all__ = ["LAMB", "LBFGS", "SGD", "AMSGrad", "Adadelta", "Adagrad", "Adam", "AdamW", "Lion", "NAdam", "Optimiser", "RAdam", "RMSprop"]


__getattr__ = names_of(__name__, __all__)
