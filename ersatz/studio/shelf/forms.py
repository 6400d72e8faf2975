"""What the shelf takes in."""

from pathlib import Path

from django import forms
from django.conf import settings

from ersatz.core.audio import ACCEPTED, ACCEPTED_SUFFIXES
from ersatz.core.styles import BY_NAME


def check_file(file, accepted: str) -> None:
    """Size and name, before anything is read. Raises ValidationError."""
    if file.size > settings.MAX_UPLOAD_BYTES:
        limit = settings.MAX_UPLOAD_BYTES // (1024 * 1024)
        raise forms.ValidationError(f"“{file.name}” is larger than {limit} MB, the limit here. A FLAC of it is smaller.")
    if Path(file.name).suffix.lower() not in ACCEPTED_SUFFIXES:
        raise forms.ValidationError(f"“{file.name}” doesn't look like audio. {accepted}")


class UploadForm(forms.Form):
    file = forms.FileField(
        max_length=255,
        error_messages={
            "required": f"No file arrived. {ACCEPTED}",
            "empty": f"The file is empty. {ACCEPTED}",
            "max_length": "The file's name is too long; shorten it to 255 characters.",
        },
    )

    def clean_file(self):
        file = self.cleaned_data["file"]
        check_file(file, ACCEPTED)
        return file


class TitleForm(forms.Form):
    title = forms.CharField(max_length=120, strip=True, error_messages={"required": "A title needs at least one letter."})


class DraftForm(forms.Form):
    seed = forms.IntegerField(min_value=1, max_value=999_999, required=False)
    style = forms.ChoiceField(choices=[("", "style that fits"), *((s.name, s.title) for s in BY_NAME.values())], required=False)
