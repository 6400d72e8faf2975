"""The your-own meter: how much of a reference a remake takes over, and what could be played in its place."""

from ersatz.core.own.heard import Heard, hear
from ersatz.core.own.meter import Facet, Own, Passage, measure_own
from ersatz.core.own.vary import Take, Varied, varied

__all__ = ["Facet", "Heard", "Own", "Passage", "Take", "Varied", "hear", "measure_own", "varied"]
