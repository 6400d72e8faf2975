"""What the Balance page takes in."""

from django import forms


class FitForm(forms.Form):
    revision = forms.IntegerField(min_value=1)
    curve = forms.CharField(max_length=80)
    to = forms.ChoiceField(choices=[("reference", "reference"), ("kick", "kick")])
