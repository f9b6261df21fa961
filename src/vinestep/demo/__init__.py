"""Made-up data of one vineyard and one cellar, generated from fixed seeds."""

from .barrels import barrels
from .parcels import parcels

__all__ = ["barrels", "parcels"]
