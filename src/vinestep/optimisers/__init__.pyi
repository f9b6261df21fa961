from ._adam import (
    Adam as Adam,
    AdamW as AdamW,
    AMSGrad as AMSGrad,
    NAdam as NAdam,
    RAdam as RAdam,
)
from ._adaptive import Adadelta as Adadelta, Adagrad as Adagrad, RMSprop as RMSprop
from ._base import Optimiser as Optimiser
from ._large_batch import LAMB as LAMB, Lion as Lion
from ._quasi_newton import LBFGS as LBFGS
from ._sgd import SGD as SGD
