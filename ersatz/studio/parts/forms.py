from django import forms


class SaveForm(forms.Form):
    """A name for the part's sound or for its chain of effects."""

    what = forms.ChoiceField(choices=[("sound", "sound"), ("chain", "chain")])
    name = forms.CharField(max_length=60)
