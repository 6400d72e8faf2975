"""What several tracks, or a style, have in common: a typical track with the spread around each of its figures."""

from ersatz.core.target.combine import target_of_surveys
from ersatz.core.target.document import Corridor, KeyShare, Member, Span, Spread, Target
from ersatz.core.target.from_style import target_of_style

__all__ = ["Corridor", "KeyShare", "Member", "Span", "Spread", "Target", "target_of_style", "target_of_surveys"]
