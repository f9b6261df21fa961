from ..run._run import Observer as Observer
from ._attributions import Attributions as Attributions
from ._checkpoints import Checkpoints as Checkpoints
from ._curves import Curves as Curves
from ._generated_samples import GeneratedSamples as GeneratedSamples
from ._notebook import InCell as InCell
from ._patience import Patience as Patience
from ._progress import Progress as Progress
from ._recorders import (
    Distributions as Distributions,
    Machine as Machine,
    Norms as Norms,
    Scheduled as Scheduled,
    Steps as Steps,
)
from ._samples import LayerOutputs as LayerOutputs, Samples as Samples
