"""Who is signed in."""

from __future__ import annotations

from typing import cast

from django.contrib.auth.models import User
from django.http import HttpRequest


def user_of(request: HttpRequest) -> User:
    """The user of a view that only those who are signed in reach."""
    return cast(User, request.user)
