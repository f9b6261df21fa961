"""Made-up data of one vineyard and one cellar, generated from fixed seeds."""

from .barrels import barrels
from .chalk import Chalk, chalk
from .ferments import Ferments, ferment_course, ferments
from .harvest import harvest
from .leaves import Leaves, leaves
from .notes import Notes, notes
from .parcels import parcels
from .shorthand import Shorthand, compressed, shorthand

__all__ = [
    "Chalk",
    "Ferments",
    "Leaves",
    "Notes",
    "Shorthand",
    "barrels",
    "chalk",
    "compressed",
    "ferment_course",
    "ferments",
    "harvest",
    "leaves",
    "notes",
    "parcels",
    "shorthand",
]

TABLES = ("barrels", "harvest", "parcels")
"""Those that are tables, for plans."""
