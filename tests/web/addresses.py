"""Addresses of edits, which say what page shows the answer, and of variants."""

import base64
import json
from urllib.parse import urlencode

from django.urls import reverse


def edits(name, remake, show="plan", part="", *rest):
    """`name`: "edit", "undo", "redo", "return-to" or "milestone"."""
    return f"{reverse(name, args=[remake.pk, *rest])}?{urlencode({'show': show, 'part': part})}"


def code(**body):
    """Of a variant: an edit or an ask that is tried, or the parts that are heard."""
    return base64.urlsafe_b64encode(json.dumps(body).encode()).decode().rstrip("=")
