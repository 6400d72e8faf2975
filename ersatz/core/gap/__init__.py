"""Two surveys side by side: what differs, by how much, and whether it matters."""

from ersatz.core.gap.compare import Figure, Gap, SectionGap, compare

__all__ = ["Figure", "Gap", "SectionGap", "compare"]
