"""Two surveys side by side: what differs, by how much, and whether it matters."""

from ersatz.core.gap.compare import Gap, compare
from ersatz.core.gap.figures import Figure
from ersatz.core.gap.sections import SectionGap

__all__ = ["Figure", "Gap", "SectionGap", "compare"]
