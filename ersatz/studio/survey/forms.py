"""Corrections of a survey, one at a time."""

from django import forms

from ersatz.core.errors import UnusableDocument
from ersatz.core.grid import MAX_BEATS, MIN_BEATS
from ersatz.core.serial import from_json, read_json
from ersatz.core.survey.document import RATES, Corrections, SectionCorrection


class BarOneForm(forms.Form):
    """The time of a bar line, seconds into the file."""

    seconds = forms.FloatField(min_value=0)


class ShiftForm(forms.Form):
    """Bar 1 moved by whole beats or by milliseconds."""

    beats = forms.IntegerField(min_value=-4, max_value=4, required=False)
    ms = forms.FloatField(min_value=-2000, max_value=2000, required=False)


class MetreForm(forms.Form):
    beats = forms.IntegerField(min_value=MIN_BEATS, max_value=MAX_BEATS)


class PumpForm(forms.Form):
    """How the reference ducks, as the producer hears it."""

    depth_db = forms.FloatField(min_value=0, max_value=60)
    rate = forms.ChoiceField(choices=[(r, r) for r in RATES])
    release_ms = forms.FloatField(min_value=10, max_value=4000)


class SectionsForm(forms.Form):
    """All sections of the track as JSON: a list of {label, start_bar, bars}."""

    sections = forms.CharField(max_length=20_000)

    def clean_sections(self) -> tuple[SectionCorrection, ...]:
        """The plan as it was corrected; () for as measured."""
        try:
            return from_json(Corrections, {"sections": read_json(self.cleaned_data["sections"])}).sections or ()
        except (ValueError, UnusableDocument) as error:
            raise forms.ValidationError("That is not a list of sections.") from error
