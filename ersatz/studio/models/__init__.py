"""References, remakes with their revisions, jobs."""

from ersatz.studio.models.jobs import Job
from ersatz.studio.models.references import Reference
from ersatz.studio.models.remakes import Measurement, Remake, Revision, StaleRevision

__all__ = ["Job", "Measurement", "Reference", "Remake", "Revision", "StaleRevision"]
