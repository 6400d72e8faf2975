"""What several pages take in that change a song."""

from pathlib import Path

from django import forms
from django.conf import settings

from ersatz.core.audio import ACCEPTED_SUFFIXES
from ersatz.core.draft.asks import MOST_SEED
from ersatz.core.grid import MAX_BPM, MIN_BPM
from ersatz.core.pitch import TONICS
from ersatz.core.styles import BY_NAME, ENERGIES

MOST_MIDI_BYTES = 4 * 1024 * 1024


class RevisionForm(forms.Form):
    """Which revision a change is made on."""

    revision = forms.IntegerField(min_value=1)


class MidiForm(RevisionForm):
    file = forms.FileField(max_length=255, error_messages={"required": "No file arrived.", "empty": "The file is empty."})

    def clean_file(self):
        """Refuses what is too large."""
        file = self.cleaned_data["file"]
        if file.size > MOST_MIDI_BYTES:
            raise forms.ValidationError("A MIDI file has up to 4 MB.")
        return file


#: What NameForm refuses.
BAD_NAME = "A name has 1 to 60 characters."


class NameForm(forms.Form):
    """What a version, a sound or a chain is saved as."""

    name = forms.CharField(max_length=60)


class ChosenForm(forms.Form):
    milestone = forms.IntegerField(min_value=1)


def check_file(file, accepted: str) -> None:
    """Size and name, before anything is read. Raises ValidationError."""
    if file.size > settings.MAX_UPLOAD_BYTES:
        limit = settings.MAX_UPLOAD_BYTES // (1024 * 1024)
        raise forms.ValidationError(f"“{file.name}” is larger than {limit} MB, the limit here. A FLAC of it is smaller.")
    if Path(file.name).suffix.lower() not in ACCEPTED_SUFFIXES:
        raise forms.ValidationError(f"“{file.name}” doesn't look like audio. {accepted}")


class DraftForm(forms.Form):
    seed = forms.IntegerField(min_value=1, max_value=MOST_SEED, required=False)
    style = forms.ChoiceField(
        choices=[("", "style that fits"), *((s.name, s.title) for s in BY_NAME.values())], required=False,
        widget=forms.Select(attrs={"class": "form-select"}),
    )  # fmt: skip
    energy = forms.TypedChoiceField(
        choices=[(by, name) for name, by in ENERGIES.items()], coerce=int, empty_value="", required=False, initial=0,
        widget=forms.Select(attrs={"class": "form-select"}),
    )  # fmt: skip


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


class KeyForm(forms.Form):
    tonic = forms.ChoiceField(choices=[(t, t) for t in TONICS])
    mode = forms.ChoiceField(choices=[("major", "major"), ("minor", "minor")])
