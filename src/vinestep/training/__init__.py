"""Training: the loop, its observers and checkpoints."""

from . import checkpoints, observers
from .loop import Outcome, Step, Training
from .status import Status

__all__ = ["Outcome", "Status", "Step", "Training", "checkpoints", "observers"]
