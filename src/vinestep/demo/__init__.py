"""Made-up data of one vineyard and one cellar, generated from fixed seeds."""

from .barrels import barrels
from .ferments import Ferments, ferment_course, ferments
from .leaves import Leaves, leaves
from .parcels import parcels

__all__ = ["Ferments", "Leaves", "barrels", "ferment_course", "ferments", "leaves", "parcels"]

TABLES = ("barrels", "parcels")
"""Those that are tables, for plans."""
