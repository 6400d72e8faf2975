"""References and targets, remakes with their revisions, jobs, saved sounds."""

from ersatz.studio.models.jobs import Job
from ersatz.studio.models.references import Reference
from ersatz.studio.models.remakes import Measurement, Milestone, OtherDraft, Remake, Revision, StaleRevision
from ersatz.studio.models.sounds import OwnSample, SavedChain, SavedSound
from ersatz.studio.models.targets import Target

__all__ = [
    "Job", "Measurement", "Milestone", "OtherDraft", "OwnSample", "Reference", "Remake", "Revision", "SavedChain", "SavedSound",
    "StaleRevision", "Target",
]  # fmt: skip
