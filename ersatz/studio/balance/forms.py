"""What the Balance page takes in."""

from django import forms


class FitForm(forms.Form):
    revision = forms.IntegerField(min_value=1)
    curve = forms.CharField(max_length=80)
    to = forms.ChoiceField(choices=[("reference", "reference"), ("kick", "kick")])


class SolveForm(forms.Form):
    section = forms.IntegerField(min_value=0, required=False)
    locked = forms.CharField(max_length=4000, required=False)

    def clean_locked(self) -> list[str]:
        """Ids of the strips that stay as they are."""
        return [name for name in self.cleaned_data["locked"].split(",") if name]
