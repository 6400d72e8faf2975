"""Corrections of a survey, one at a time."""

from django import forms

from ersatz.core.errors import UnusableDocument
from ersatz.core.grid import MAX_BEATS, MAX_BPM, MIN_BEATS, MIN_BPM
from ersatz.core.pitch import TONICS
from ersatz.core.serial import from_json, read_json
from ersatz.core.survey.document import RATES, Corrections, SectionCorrection


class TempoForm(forms.Form):
    bpm = forms.FloatField(
        min_value=MIN_BPM,
        max_value=MAX_BPM,
        error_messages={
            "required": "Type a tempo in BPM.",
            "invalid": "A tempo is a number of beats per minute, such as 121 or 131.5.",
            "min_value": f"Tempi from {MIN_BPM:.0f} to {MAX_BPM:.0f} BPM are taken.",
            "max_value": f"Tempi from {MIN_BPM:.0f} to {MAX_BPM:.0f} BPM are taken.",
        },
    )


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


class KeyForm(forms.Form):
    tonic = forms.ChoiceField(choices=[(t, t) for t in TONICS])
    mode = forms.ChoiceField(choices=[("major", "major"), ("minor", "minor")])


class SectionsForm(forms.Form):
    """All sections of the track as JSON: a list of {label, start_bar, bars}."""

    sections = forms.CharField(max_length=20_000)

    def clean_sections(self) -> tuple[SectionCorrection, ...]:
        try:
            return from_json(Corrections, {"sections": read_json(self.cleaned_data["sections"])}).sections or ()
        except (ValueError, UnusableDocument) as error:
            raise forms.ValidationError("That is not a list of sections.") from error
