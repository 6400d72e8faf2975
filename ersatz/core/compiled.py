"""Loops over samples as machine code: compiled once, kept on disk, run without the interpreter's lock.

A product and the sum that it goes into are one operation, rounded once: a filter waits for its own last sample, and so waits half
as long. Division by zero
gives infinity: a loop that had to look out for it would go one sample at a time.
"""

from __future__ import annotations

from numba import njit

compiled = njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy")
#: For the inside of such a loop. What is compiled by its caller takes the caller's rules.
inlined = njit(cache=True, nogil=True, fastmath={"contract"}, error_model="numpy", inline="always")
#: Sums may be added in any order, a fixed one for a given machine, and no figure is taken to be none: the larger of two is then one
#: operation. Several times as fast.
unordered = njit(cache=True, nogil=True, fastmath={"contract", "reassoc", "nnan", "nsz"}, error_model="numpy")
