"""What several pages take in that change a song."""

from django import forms

MOST_MIDI_BYTES = 4 * 1024 * 1024


class MidiForm(forms.Form):
    revision = forms.IntegerField(min_value=1)
    file = forms.FileField(max_length=255, error_messages={"required": "No file arrived.", "empty": "The file is empty."})

    def clean_file(self):
        file = self.cleaned_data["file"]
        if file.size > MOST_MIDI_BYTES:
            raise forms.ValidationError("A MIDI file has up to 4 MB.")
        return file


class MilestoneForm(forms.Form):
    name = forms.CharField(max_length=60, strip=True)


class ChosenForm(forms.Form):
    milestone = forms.IntegerField(min_value=1)
