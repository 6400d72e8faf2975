"""The first revision of a remake: a draft that is heard at once, matched to its reference behind it (jobs/work.py)."""

from __future__ import annotations

from ersatz.core.draft import draft_song
from ersatz.studio.models import Remake, Revision


def begin_draft(remake: Remake) -> Revision:
    """The draft as it was begun, or now is, before matching. Raises NoTempo, OtherMetre."""
    begun = remake.revisions.filter(number=1).first()
    if begun is not None:
        return begun
    survey = remake.reference.survey
    assert survey is not None
    song = draft_song(survey, remake.seed, remake.style or None, remake.title, remake.energy)
    return remake.start(song, "Drafted from the target" if remake.reference.is_target else "Drafted from the reference")
