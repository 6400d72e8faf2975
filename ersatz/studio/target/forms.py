"""What a target is made of, and what the producer chooses in it."""

from __future__ import annotations

from typing import cast

from django import forms

from ersatz.core.styles import STYLES
from ersatz.core.target.combine import FEWEST
from ersatz.studio.models import Reference
from ersatz.studio.shared.forms import KeyForm, TempoForm

MOST_MEMBERS = 40


class TargetForm(forms.Form):
    """Several surveyed references, or a style."""

    title = forms.CharField(max_length=120, required=False, strip=True)
    members = forms.ModelMultipleChoiceField(Reference.objects.none(), required=False, widget=forms.CheckboxSelectMultiple)
    style = forms.ChoiceField(choices=[("", "no style"), *((s.name, s.title) for s in STYLES)], required=False)

    def __init__(self, user, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.offered = Reference.objects.of(user).tracks().surveyed().order_by("title")
        cast(forms.ModelMultipleChoiceField, self.fields["members"]).queryset = self.offered

    def clean(self):
        """Either two references or more, or a style."""
        members, style = self.cleaned_data.get("members"), self.cleaned_data.get("style")
        if style and members:
            raise forms.ValidationError("Pick references or a style, not both.")
        if not style and (members is None or len(members) < FEWEST):
            raise forms.ValidationError("Pick two references or more, or a style.")
        if members is not None and len(members) > MOST_MEMBERS:
            raise forms.ValidationError(f"A target is made from at most {MOST_MEMBERS} references.")
        return self.cleaned_data


class ChoiceForm(TempoForm, KeyForm):
    """Tempo and key of what is drafted from a target, and the reference heard in its place."""

    heard = forms.ModelChoiceField(Reference.objects.none(), required=False)

    def __init__(self, user, *args, **kwargs):
        super().__init__(*args, **kwargs)
        heard = cast(forms.ModelChoiceField, self.fields["heard"])
        heard.queryset = Reference.objects.of(user).tracks().surveyed()
