"""References, remakes with their revisions, jobs, saved sounds."""

from ersatz.studio.models.jobs import Job
from ersatz.studio.models.references import Reference
from ersatz.studio.models.remakes import Measurement, Milestone, OtherDraft, Remake, Revision, StaleRevision
from ersatz.studio.models.sounds import OwnSample, SavedChain, SavedSound

__all__ = [
    "Job", "Measurement", "Milestone", "OtherDraft", "OwnSample", "Reference", "Remake", "Revision", "SavedChain", "SavedSound",
    "StaleRevision",
]  # fmt: skip
