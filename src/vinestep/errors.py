"""Every refusal of the library.

VineStepError
    ShapeError            (ValueError)       arrays that do not fit together
      NoAxesError         (TypeError)        a Tensor without axes, used as if it had some
    DTypeError            (TypeError)        a kind of number that cannot be differentiated or
    stored MissingRuleError      (TypeError)        a NumPy function with no derivative rule
    DifferentiationError  (ValueError)       a derivative that cannot be had as asked NotFiniteError
    (ArithmeticError)  NaN or infinity where a number was needed LayerError            (ValueError)
    a layer used in the wrong order or with wrong settings DataError             (ValueError)
    a table, split or label that cannot be used
      ExampleIndexError   (IndexError)       an example that a source does not have
    ArchiveError          (ValueError)       a file of this library that cannot be trusted
      CheckpointError                        a checkpoint that does not belong to a training, or
      says what makes no sense ModelError                             a model that cannot be opened
      as it is
    PartError             (ValueError)       a part that cannot be described, or a description that
    cannot be built PlanError             (ValueError)       a plan with an unknown key, wrong type
    or missing file RunError              (RuntimeError)     a run that does not exist or cannot be
    continued
      PeerError                              another rank of a run failed, or did not come in time
    SettingError          (ValueError, TypeError)  an argument of the wrong kind, or out
    of its range UnknownNameError      (AttributeError, KeyError)  a name that is not there, with
    the nearest that is

Each says what was wrong, where, what was expected and what to do::

    try:
        network.initialise(sample)
    except vinestep.errors.VineStepError as error:
        print(error)
"""

from __future__ import annotations

__all__ = [
    "ArchiveError",
    "CheckpointError",
    "DTypeError",
    "DataError",
    "DifferentiationError",
    "ExampleIndexError",
    "KernelsWarning",
    "LayerError",
    "MissingRuleError",
    "ModelError",
    "NoAxesError",
    "NotFiniteError",
    "PartError",
    "PeerError",
    "PlanError",
    "PrecisionWarning",
    "RunError",
    "SettingError",
    "ShapeError",
    "UnknownNameError",
    "UnwritableLedgerError",
    "VineStepError",
]


class VineStepError(Exception):
    """The base of every error raised on purpose by the library.

    Examples
    --------
    >>> try:
    ...     vs.Dense(0)
    ... except VineStepError as error:
    ...     print(error)
    Dense: width must be a whole number of at least 1, got 0.
    """


class ShapeError(VineStepError, ValueError):
    """Arrays whose shapes do not fit together."""


class NoAxesError(ShapeError, TypeError):
    """A Tensor without axes, used as if it had some."""


class DTypeError(VineStepError, TypeError):
    """A kind of number that cannot be differentiated or stored."""


class MissingRuleError(VineStepError, TypeError):
    """A NumPy function for which there is no derivative rule."""


class DifferentiationError(VineStepError, ValueError):
    """A derivative that cannot be had as asked."""


class NotFiniteError(VineStepError, ArithmeticError):
    """NaN or infinity where a finite number was needed."""


class LayerError(VineStepError, ValueError):
    """A layer used in the wrong order or with settings that make no sense."""


class DataError(VineStepError, ValueError):
    """A table, split or label that cannot be used."""


class ExampleIndexError(DataError, IndexError):
    """An example that a source does not have."""


class ArchiveError(VineStepError, ValueError):
    """A file of this library that cannot be trusted."""


class CheckpointError(ArchiveError):
    """A checkpoint that does not belong to a training, or says what makes no sense."""


class ModelError(ArchiveError):
    """A model that cannot be opened or used as it is."""


class PartError(VineStepError, ValueError):
    """A part that cannot be described as plain data, or a description that cannot be built."""


class PlanError(VineStepError, ValueError):
    """A plan with an unknown key, a wrong type or a missing file."""


class RunError(VineStepError, RuntimeError):
    """A run that does not exist or cannot be continued."""


class PeerError(RunError):
    """Another rank of a run over several processes failed, or did not come in time."""


class UnwritableLedgerError(RunError):
    """A ledger whose file cannot be written: its disk is full, or may only be read."""


class SettingError(VineStepError, ValueError, TypeError):
    """An argument of the wrong kind, or out of its range."""


class UnknownNameError(VineStepError, AttributeError, KeyError):
    """A name that is not there, with the nearest that is."""

    __str__ = Exception.__str__  # that of KeyError would put it in quotes


class KernelsWarning(UserWarning):
    """Compiled loops do not work with what is installed; definitions in NumPy run in their
    place.
    """


class PrecisionWarning(UserWarning):
    """A float32 parameter met a float64 array, so the result is float64."""


def __dir__() -> list[str]:
    return __all__
