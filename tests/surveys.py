"""Surveys with a plan that a test asks for."""

from dataclasses import replace


def of_sections(survey, *labels, events=()):
    """The survey with its first section over and over, under these labels."""
    first = survey.sections[0]
    parts = [replace(first, label=label, start_bar=1 + i * first.bars) for i, label in enumerate(labels)]
    drums = replace(survey.drums, patterns=tuple(replace(survey.drums.patterns[0], section=i) for i in range(len(labels))))
    spectrum = replace(survey.spectrum, per_section=survey.spectrum.per_section[:1] * len(labels))
    return replace(
        survey, sections=tuple(parts), drums=drums, spectrum=spectrum, pump=replace(survey.pump, active_sections=()),
        events=tuple(events), changes=(),
    )  # fmt: skip
