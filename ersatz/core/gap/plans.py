"""Two plans on one bar axis: which section of the reference a section of the remake answers to, and where the plans differ.

A section's counterpart is the reference's of the same label and the same number among those of its label.
"""

from __future__ import annotations

from dataclasses import dataclass

from ersatz.core.gap.sections import counterparts as paired
from ersatz.core.song.document import Song
from ersatz.core.survey.document import Survey


@dataclass(frozen=True)
class PlanDifference:
    """`section` is the song's (its id, "" where it has none), `counterpart` the index of the reference's (None where it has none).
    `later_bars`: how much later the song's begins, `longer_bars`: how much longer it is."""

    section: str
    counterpart: int | None
    later_bars: int = 0
    longer_bars: int = 0

    @property
    def is_none(self) -> bool:
        """Whether a section stands where its counterpart does and is as long."""
        return bool(self.section) and self.counterpart is not None and not self.later_bars and not self.longer_bars


def counterparts(song: Song, survey: Survey) -> dict[str, int]:
    """Section id -> index of its counterpart, for those that have one."""
    found = paired(survey.sections, song.sections)
    return {song.sections[mine].id: i for i, mine in enumerate(found) if mine is not None}


def compared_first(song: Song, survey: Survey) -> tuple[int, int] | None:
    """Places, in the song's plan and in the reference's, of the reference's main section where the song has its counterpart, else
    of the longest section that both have; None where they share none."""
    known = counterparts(song, survey)
    shared = {known[s.id]: mine for mine, s in enumerate(song.sections) if s.id in known}
    if not shared:
        return None
    main = survey.main_section()
    theirs = main if main in shared else max(shared, key=lambda i: song.sections[shared[i]].bars)
    return shared[theirs], theirs


def plan_differences(song: Song, survey: Survey) -> list[PlanDifference]:
    """One for each section of the song in order, then the reference's sections that the song lacks."""
    known = counterparts(song, survey)
    out = []
    for bar, section in song.placed():
        i = known.get(section.id)
        if i is None:
            out.append(PlanDifference(section.id, None))
        else:
            theirs = survey.sections[i]
            out.append(PlanDifference(section.id, i, bar - theirs.start_bar, section.bars - theirs.bars))
    return out + [PlanDifference("", i) for i in range(len(survey.sections)) if i not in known.values()]
