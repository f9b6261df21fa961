"""The numbers of SplitMix64, by which the interpreter and compiled loops draw alike: G. L. Steele,
D. Lea and C. H. Flood, OOPSLA 2014, figure 17.
"""

from __future__ import annotations

__all__ = ["GOLDEN", "MIX1", "MIX2"]

GOLDEN = 0x9E3779B97F4A7C15
MIX1 = 0xBF58476D1CE4E5B9
MIX2 = 0x94D049BB133111EB
