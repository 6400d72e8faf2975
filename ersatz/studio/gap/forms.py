"""What the Gap page is asked."""

from __future__ import annotations

from django import forms


class MovesForm(forms.Form):
    """`section`: its place in the song's plan."""

    section = forms.IntegerField(min_value=0)
