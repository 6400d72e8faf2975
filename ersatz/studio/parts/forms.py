"""What the page of a part takes in."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from django import forms

from ersatz.core.audio import Audio
from ersatz.core.errors import UnusableAudio
from ersatz.core.samples import ACCEPTED, read_sample
from ersatz.studio.shared.forms import NameForm, check_file


class SaveForm(NameForm):
    """A name for the part's sound or for its chain of effects."""

    what = forms.ChoiceField(choices=[("sound", "sound"), ("chain", "chain")])


class BrowserForm(forms.Form):
    """For which part and song there is something to choose."""

    role = forms.CharField(max_length=12, required=False)
    remake = forms.IntegerField(min_value=1, required=False)


class SampleForm(forms.Form):
    """A file that is a sample; cleaned, it is its audio."""

    file = forms.FileField(
        max_length=255,
        error_messages={"required": f"No file arrived. {ACCEPTED}", "empty": f"The file is empty. {ACCEPTED}",
                        "max_length": "The file's name is too long; shorten it to 255 characters."},
    )  # fmt: skip
    #: What the sample is called: the file's name without its ending.
    name = ""

    def clean_file(self) -> Audio:
        """The samples themselves; the file's name becomes the sample's."""
        file = self.cleaned_data["file"]
        check_file(file, ACCEPTED)
        called = Path(file.name)
        self.name = re.sub(r"[_\s]+", " ", called.stem).strip()[:60] or "Untitled"
        with tempfile.NamedTemporaryFile(suffix=called.suffix.lower()) as copy:
            for block in file.chunks():
                copy.write(block)
            copy.flush()
            try:
                return read_sample(copy.name, called.name)
            except UnusableAudio as error:
                raise forms.ValidationError(str(error)) from error
