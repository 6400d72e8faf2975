"""Which section plan is typical of several, and which of each track's sections stands at which place in it?

Method: plans are compared by edit distance (Wagner & Fischer 1974) over their sections; the plan with the least distance to all
others, the medoid, is the typical one; every plan is aligned with it. A place at which fewer than half of the tracks have a
section is left out.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import log2

from ersatz.core.survey.document import Section

SKIP_COST = 0.7
OTHER_LABEL_COST = 1.0
#: Sections that do the same work under another name.
AKIN = {frozenset(("build", "breakdown")), frozenset(("bridge", "breakdown")), frozenset(("bridge", "drop"))}
AKIN_COST = 0.6
#: Per doubling of the length.
LENGTH_COST = 0.15

Plan = Sequence[Section]
#: Per place of the typical plan the index of a track's section, or None.
Alignment = tuple[int | None, ...]


def typical_plan(plans: Sequence[Plan]) -> tuple[int, list[int], list[Alignment]]:
    """Index of the typical plan, which of its sections are kept, and per plan the sections at the kept places."""
    distances = [sum(_aligned(one, other)[0] for other in plans) for one in plans]
    medoid = distances.index(min(distances))
    alignments = [_aligned(plans[medoid], plan)[1] for plan in plans]
    kept = [i for i in range(len(plans[medoid])) if 2 * sum(a[i] is not None for a in alignments) >= len(plans)]
    return medoid, kept, [tuple(a[i] for i in kept) for a in alignments]


def _difference(a: Section, b: Section) -> float:
    cost = LENGTH_COST * abs(log2(a.bars / b.bars))
    if a.label == b.label:
        return cost
    return cost + (AKIN_COST if frozenset((a.label, b.label)) in AKIN else OTHER_LABEL_COST)


def _aligned(plan: Plan, other: Plan) -> tuple[float, Alignment]:
    """Edit distance, and per section of `plan` its partner in `other`."""
    rows, columns = len(plan) + 1, len(other) + 1
    cost = [[SKIP_COST * (i + j) for j in range(columns)] for i in range(rows)]
    for i in range(1, rows):
        for j in range(1, columns):
            paired = cost[i - 1][j - 1] + _difference(plan[i - 1], other[j - 1])
            cost[i][j] = min(paired, cost[i - 1][j] + SKIP_COST, cost[i][j - 1] + SKIP_COST)
    partners: list[int | None] = [None] * len(plan)
    i, j = len(plan), len(other)
    while i and j:
        if cost[i][j] == cost[i - 1][j - 1] + _difference(plan[i - 1], other[j - 1]):
            i, j = i - 1, j - 1
            partners[i] = j
        elif cost[i][j] == cost[i - 1][j] + SKIP_COST:
            i -= 1
        else:
            j -= 1
    return cost[-1][-1], tuple(partners)
