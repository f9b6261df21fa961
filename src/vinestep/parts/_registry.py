"""Which parts there are: each is registered once, beside its definition."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cache, wraps
from typing import Any, Literal, TypeVar

from ..errors import PartError, SettingError, VineStepError

__all__ = [
    "Kind",
    "Kinds",
    "described_as",
    "kind_of",
    "kinds",
    "library",
    "made_by",
    "maker",
    "part",
    "register",
]

T = TypeVar("T")
Form = Literal["class", "function", "maker", "object"]
MODULES = ("_activations", "_ensemble", "initialisers", "losses", "networks", "schedules")
PACKAGES = (
    "data",
    "demo",
    "evaluation",
    "generation",
    "layers",
    "optimisers",
    "tasks",
    "training.observers",
)
"""Every module in them may define parts: a new one is found by itself."""
RESERVED = ("kind", "label")
_MARK = "__vinestep_kind__"
_MADE = "__vinestep_made__"


@dataclass(frozen=True, slots=True, eq=False)
class Kind:
    """What a description calls a part, and what makes one."""

    name: str
    family: str
    """ "layer", "activation", "initialiser", "loss", "task", "metric", "optimiser", "schedule",
    "observer", "source"; empty if it was not said.
    """
    target: Any
    form: Form
    """Whether the target is a class, itself the function wanted, a function that makes the part, or
    the part.
    """

    def __reduce__(self) -> Any:
        return _found_again, (self.name, self.family, self.target)

    def __repr__(self) -> str:
        return f"<kind {self.name} of {self.family or 'no family'}>"


_LIBRARY: dict[str, list[Kind]] = {}
_BY_OBJECT: dict[
    int, Kind
] = {}  # functions and objects of NumPy and of the library, which are never freed


def _found_again(name: str, family: str, target: Any) -> Kind:
    """A kind that was copied or pickled with its part: the one that is registered."""
    mark = vars(target).get(_MARK) if hasattr(target, "__dict__") else None
    return (
        mark
        if isinstance(mark, Kind)
        else next(kind for kind in library()[name] if kind.family == family)
    )


def part(kind: str, family: str | None = None) -> Callable[[T], T]:
    """Give a class or function a kind, so that it can be described and built again.

    Of a class the settings are the constructor's arguments, which it keeps as attributes of the
    same names; of a function its parameters with defaults. A part of one's own is not found by its
    kind alone: whoever opens a file hands it over, ``own=[Scale]``, since a file never imports
    code.

    Parameters
    ----------
    kind : str
        A word such as ``"scale"``, which no part of the library has.
    family : str, optional
        What it is: "layer", "activation", "initialiser", "loss", "task", "metric", "optimiser",
        "schedule", "observer", "source", "transform", "order" or "join". By default what the class
        is derived from.

    Raises
    ------
    PartError
        If the library has a part of this kind.

    Examples
    --------
    >>> @vs.parts.part("scale")
    ... class Scale(vs.Layer):
    ...     def __init__(self, factor):
    ...         self.factor = factor
    ...
    ...     def compute(self, x):
    ...         return x * self.factor
    >>> vs.parts.describe(vs.Stack(Scale(2.0)))
    {'kind': 'stack', 'layers': [{'kind': 'scale', 'factor': 2.0}]}
    """

    def marked(target: T) -> T:
        register(kind, target, family if family is not None else getattr(target, "part_family", ""))
        return target

    return marked


def described_as(plain: type) -> Callable[[T], T]:
    """For a class whose members are described as those of another: what they hold besides is told
    elsewhere.
    """

    def marked(target: T) -> T:
        setattr(target, _MARK, vars(plain)[_MARK])
        return target

    return marked


def register(kind: str, target: Any, family: str, *, form: Form | None = None) -> Kind:
    """Give an object a kind, such as a function of NumPy.

    Examples
    --------
    >>> vs.parts.register("", np.tanh, "activation")
    Traceback (most recent call last):
    vinestep.errors.PartError: A kind is a word such as 'scale', got ''.
    """
    if not kind or not all(piece.isidentifier() for piece in kind.split(".")):
        raise PartError(f"A kind is a word such as 'scale', got {kind!r}.")
    result = Kind(
        kind, family, target, form or ("class" if isinstance(target, type) else "function")
    )
    module = (getattr(target, "__module__", None) or "") if form != "object" else "vinestep.object"
    if (
        module.startswith("vinestep.")
        or module.partition(".")[0] in ("numpy", "scipy")
        or not module
    ):
        _LIBRARY.setdefault(kind, []).append(result)
        if result.form != "class":
            _BY_OBJECT[id(target)] = result
        else:
            setattr(target, _MARK, result)
            _refuse_in_words(target)
        return result
    if kind in library():
        raise PartError(f"The kind {kind!r} is one of the library's. Give yours another name.")
    setattr(target, _MARK, result)
    return result


def _refuse_in_words(target: type) -> None:
    """Let the constructor of a class, its own or an inherited one, refuse settings in words."""
    for base in target.__mro__:
        if "__init__" in vars(base):
            if base is not object and not hasattr(base.__init__, "__wrapped__"):  # type: ignore[misc]
                base.__init__ = _in_words(base.__init__)  # type: ignore[misc]
            return


def _in_words(make: Callable[..., Any]) -> Callable[..., Any]:
    """A constructor of the library whose settings are refused in words, whatever they are: one that
    compares or converts a setting of a wrong kind would say what Python says.
    """
    of_class = make.__name__ == "__init__"

    @wraps(make)
    def checked(*arguments: Any, **options: Any) -> Any:
        try:
            return make(*arguments, **options)
        except VineStepError:
            raise
        except (TypeError, ValueError, AttributeError, OverflowError) as error:
            name = type(arguments[0]).__name__ if of_class else make.__name__
            given = [*map(_short, arguments[of_class:])]
            given += [f"{key}={_short(value)}" for key, value in options.items()]
            raise SettingError(
                f"{name}({', '.join(given)}): a setting is of the wrong kind, or one is missing: "
                f"{error}."
            ) from error

    return checked


def _short(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 40 else f"{text[:37]}..."


def maker(kind: str, family: str) -> Callable[[Callable[..., T]], Callable[..., T]]:
    """For a function that makes a part: what it returns knows what it was made with.

    Examples
    --------
    >>> @vs.parts.maker("doubling", "schedule")
    ... def doubling(after: int = 100):
    ...     return lambda step: 2.0 ** (step // after)
    >>> vs.parts.describe(doubling(50))
    {'kind': 'doubling', 'after': 50}
    """

    def marked(function: Callable[..., T]) -> Callable[..., T]:
        @wraps(function)
        def make(*arguments: Any, **options: Any) -> T:
            made: T = checked(*arguments, **options)
            setattr(made, _MADE, (found, arguments, options))
            return made

        checked = _in_words(function)
        found = register(kind, make, family, form="maker")
        return make

    return marked


def made_by(value: Any) -> tuple[Kind, tuple[Any, ...], dict[str, Any]] | None:
    """Kind, arguments and options of what a maker made."""
    return getattr(value, "__dict__", {}).get(_MADE)


def library() -> dict[str, list[Kind]]:
    """All kinds of the library; several where families share a word."""
    _import_all()
    return _LIBRARY


@cache
def _import_all() -> None:
    for name in MODULES:
        importlib.import_module(f"vinestep.{name}")
    for name in PACKAGES:
        package = importlib.import_module(f"vinestep.{name}")
        for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
            importlib.import_module(module.name)


def kinds(family: str | None = None) -> list[Kind]:
    """The library's kinds, by family and name.

    Examples
    --------
    >>> [kind.name for kind in vs.parts.kinds("order")]
    ['in_order', 'shuffled']
    """
    result = [
        kind for group in library().values() for kind in group if family in (None, kind.family)
    ]
    return sorted(result, key=lambda kind: (kind.family, kind.name))


def kind_of(value: Any) -> Kind | None:
    """The kind of a part that is no maker's product; None of what has none, or only inherits
    one.
    """
    result = _BY_OBJECT.get(id(value))
    if result is not None and result.target is value:
        return result
    own = vars(value).get(_MARK) if hasattr(value, "__dict__") else None
    if isinstance(own, Kind) and not isinstance(value, type):
        return own
    own = vars(type(value)).get(_MARK)
    return own if isinstance(own, Kind) else None


class Kinds:
    """The library's kinds and a caller's own."""

    def __init__(self, own: Iterable[Any] = ()) -> None:
        self.known = {name: list(group) for name, group in library().items()}
        for target in own:
            mark = vars(target).get(_MARK) if hasattr(target, "__dict__") else None
            if not isinstance(mark, Kind):
                name = getattr(target, "__name__", repr(target))
                raise PartError(
                    f"own: {name} has no kind. Put @vinestep.parts.part({name.lower()!r}) above "
                    "its definition."
                )
            self.known.setdefault(mark.name, []).append(mark)

    def knows(self, name: str) -> bool:
        """Whether there is a kind of this name, whatever its family."""
        return bool(self.known.get(name) or self.known.get(name.partition(".")[2]))

    def find(self, name: str, families: tuple[str, ...] = ()) -> Kind:
        """The kind that is meant, where one of these families is wanted.

        Raises
        ------
        PartError
            If there is none, or more than one.
        """
        family, _, rest = name.partition(".")
        given = self.known.get(name, [])
        if not given and rest:
            given = [
                kind for kind in self.known.get(rest, []) if kind.family == family
            ] or _of_numpy(name)
        fitting = [
            kind for kind in given if not families or kind.family in families or not kind.family
        ]
        if len(fitting) == 1:
            return fitting[0]
        if fitting:
            several = sorted(f"{kind.family}.{name}" for kind in fitting)
            raise PartError(f"{name!r} may be {' or '.join(several)}. Say which.")
        wanted, listed = (
            " or ".join(families),
            f"See: vinestep kinds{f' {families[0]}' if families else ''}.",
        )
        if given:
            raise PartError(
                f"{name!r} is of the family {given[0].family}; what is wanted here is {wanted}. "
                f"{listed}"
            )
        from difflib import get_close_matches

        near = get_close_matches(name, list(self._allowed(families)), n=1)
        raise PartError(
            f"{name!r} is not known. {f'Did you mean {near[0]!r}?' if near else listed} Parts of "
            "your own have to be handed over."
        )

    def _allowed(self, families: tuple[str, ...]) -> Iterator[str]:
        for name, group in self.known.items():
            if any(not families or kind.family in families for kind in group):
                yield name


def _of_numpy(name: str) -> list[Kind]:
    """A function of one array of NumPy or SciPy that has a derivative rule, by ``numpy.sin`` or
    ``scipy.expit``.
    """
    import numpy as np
    from scipy import special

    from ..autodiff.registry import UFUNCS

    library, _, rest = name.partition(".")
    result = getattr({"numpy": np, "scipy": special}.get(library), rest, None)
    known = isinstance(result, np.ufunc) and result.nin == 1 and result in UFUNCS
    return [Kind(name, "activation", result, "function")] if known else []
