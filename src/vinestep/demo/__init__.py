"""Made-up data of one vineyard and one cellar, generated from fixed seeds."""

from .barrels import barrels
from .ferments import Ferments, ferment_course, ferments
from .parcels import parcels

__all__ = ["Ferments", "barrels", "ferment_course", "ferments", "parcels"]

TABLES = ("barrels", "parcels")
"""Those that are tables, for plans."""
