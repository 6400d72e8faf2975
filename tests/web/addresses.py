"""Addresses of edits, which say what page shows the answer."""

from urllib.parse import urlencode

from django.urls import reverse


def edits(name, remake, show="plan", part="", *rest):
    """`name`: "edit", "undo", "redo", "return-to" or "milestone"."""
    return f"{reverse(name, args=[remake.pk, *rest])}?{urlencode({'show': show, 'part': part})}"
