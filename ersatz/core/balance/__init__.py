"""The balance of a remake: what each strip adds on the frequency axis, where strips get into each other's way, and the levels, cuts
and EQ at which the mix stands as its reference does."""

from ersatz.core.balance.lanes import Lane, Lanes, measure_lanes

__all__ = ["Lane", "Lanes", "measure_lanes"]
