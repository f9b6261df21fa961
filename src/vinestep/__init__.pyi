from . import (
    attribution as attribution,
    catalogue as catalogue,
    data as data,
    demo as demo,
    distributed as distributed,
    errors as errors,
    evaluation as evaluation,
    figures as figures,
    generation as generation,
    initialisers as initialisers,
    layers as layers,
    losses as losses,
    networks as networks,
    optimisers as optimisers,
    parts as parts,
    runs as runs,
    schedules as schedules,
    tasks as tasks,
    training as training,
)
from ._activations import (
    celu as celu,
    elu as elu,
    gelu as gelu,
    gelu_tanh as gelu_tanh,
    hard_sigmoid as hard_sigmoid,
    hard_swish as hard_swish,
    leaky_relu as leaky_relu,
    log_softmax as log_softmax,
    logsumexp as logsumexp,
    mish as mish,
    relu as relu,
    selu as selu,
    sigmoid as sigmoid,
    silu as silu,
    softmax as softmax,
    softplus as softplus,
    softsign as softsign,
)
from ._findings import Finding as Finding
from ._model import Model as Model, open_model as open_model
from .autodiff.checking import GradientReport as GradientReport, check_gradients as check_gradients
from .autodiff.custom_rules import differentiable as differentiable, rule_for as rule_for
from .autodiff.derivatives import (
    differentiate as differentiate,
    directional as directional,
    gradient_of as gradient_of,
    hessian_of as hessian_of,
    hessian_product as hessian_product,
    jacobian_of as jacobian_of,
)
from .autodiff.fused import Fused as Fused
from .autodiff.gradients import Gradients as Gradients
from .autodiff.rules.segments import (
    segment_mean as segment_mean,
    segment_sum as segment_sum,
    sparse_matmul as sparse_matmul,
)
from .autodiff.tensor import Tensor as Tensor, held as held
from .autodiff.tracking import untracked as untracked
from .autodiff.trails import Trail as Trail, trail as trail
from .evaluation import metrics as metrics
from .generation._generate import generate as generate
from .layers._attention import (
    Attention as Attention,
    DecoderBlock as DecoderBlock,
    TransformerBlock as TransformerBlock,
)
from .layers._base import Layer as Layer
from .layers._containers import (
    Concat as Concat,
    Residual as Residual,
    Stack as Stack,
    Sum as Sum,
)
from .layers._convolution import (
    Convolution as Convolution,
    TransposedConvolution as TransposedConvolution,
)
from .layers._dense import Dense as Dense
from .layers._dropout import Dropout as Dropout, Noise as Noise
from .layers._embedding import Embedding as Embedding, Positions as Positions
from .layers._heads import Heads as Heads
from .layers._learning_pass import learning as learning
from .layers._multi_input import MultiInput as MultiInput
from .layers._normalisation import (
    BatchNorm as BatchNorm,
    GroupNorm as GroupNorm,
    LayerNorm as LayerNorm,
    RMSNorm as RMSNorm,
)
from .layers._parametric_relu import ParametricRelu as ParametricRelu
from .layers._pipeline import Pipeline as Pipeline
from .layers._pooling import (
    Columns as Columns,
    Flatten as Flatten,
    GlobalMax as GlobalMax,
    GlobalMean as GlobalMean,
    MaxPool as MaxPool,
    MeanPool as MeanPool,
    Reshape as Reshape,
    Upsample as Upsample,
)
from .layers._recomputed import Recomputed as Recomputed
from .layers._recurrent import GRU as GRU, LSTM as LSTM, Recurrent as Recurrent
from .training import observers as observers
from .training._adversarial import AdversarialTraining as AdversarialTraining
from .training._custom_loop import recorded_run as recorded_run
from .training._minimise import Minimum as Minimum, minimise as minimise
from .training._training import Training as Training
from .training.run._ending import Ending as Ending
from .training.run._results import Outcome as Outcome
from .training.run._run import Run as Run
from .training.step._averaging import WeightAverage as WeightAverage
from .training.step._descent import Descent as Descent
from .training.step._half_precision import HalfPrecision as HalfPrecision
from .training.step._state import RandomStream as RandomStream
from .training.step._step import Step as Step

__version__: str
