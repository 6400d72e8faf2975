"""The course of a remake's figures over its measured states: kept with each measurement, so that a page reads no survey for it."""

from __future__ import annotations

from ersatz.core.gap import compare
from ersatz.core.gap.progress import figure_states
from ersatz.core.serial import to_json
from ersatz.core.song.document import digest
from ersatz.studio.models import Measurement, Remake

#: So many measured states are shown, the newest.
MOST_STATES = 24


def against(remake: Remake) -> str:
    """What the figures are measured against: a correction of the reference makes it another."""
    reference = remake.reference
    return digest([reference.survey_json, reference.target and reference.target.to_json()])


def measured_states(remake: Remake) -> list[Measurement]:
    """The newest that have figures against the reference as it stands, the oldest first."""
    found = remake.measurements.filter(against=against(remake), section=None).defer("survey_json").order_by("-created_at")
    return list(found[:MOST_STATES])[::-1]


def remember_figures(remake: Remake) -> None:
    """Figures of the newest states that have none yet, or some against another reading of the reference."""
    survey, target, digest_now = remake.reference.survey, remake.reference.target, against(remake)
    if survey is None:
        return
    newest = remake.measurements.filter(section=None).order_by("-created_at").values_list("pk", flat=True)[:MOST_STATES]
    for row in Measurement.objects.filter(pk__in=list(newest)).exclude(against=digest_now):
        row.figures_json = to_json(figure_states(compare(survey, row.survey, spread=target.spread if target else None)))
        row.against = digest_now
        row.save(update_fields=["figures_json", "against"])
