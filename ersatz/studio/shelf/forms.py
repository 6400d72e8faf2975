"""What the shelf takes in."""

from django import forms

from ersatz.core.audio import ACCEPTED
from ersatz.studio.shared.forms import check_file


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
        """Refuses files that aren't audio by name or are too large."""
        file = self.cleaned_data["file"]
        check_file(file, ACCEPTED)
        return file


class TitleForm(forms.Form):
    title = forms.CharField(max_length=120, strip=True, error_messages={"required": "A title needs at least one letter."})
