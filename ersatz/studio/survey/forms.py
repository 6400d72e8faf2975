"""Corrections of a survey, one at a time."""

from django import forms

from ersatz.core.pitch import TONICS
from ersatz.core.song.document import MAX_BPM, MIN_BPM


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


class ShiftForm(forms.Form):
    """Bar 1 moved by whole beats or by milliseconds."""

    beats = forms.IntegerField(min_value=-4, max_value=4, required=False)
    ms = forms.FloatField(min_value=-2000, max_value=2000, required=False)


class KeyForm(forms.Form):
    tonic = forms.ChoiceField(choices=[(t, t) for t in TONICS])
    mode = forms.ChoiceField(choices=[("major", "major"), ("minor", "minor")])
