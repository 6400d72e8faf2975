"""Starts the demo scenario: the worker prepares it while the pages show how far it is."""

from __future__ import annotations

from django.contrib.auth import get_user_model
from django.core.management.base import BaseCommand

from ersatz.studio.jobs.demo import start_demo
from ersatz.studio.middleware import LOCAL_USER


class Command(BaseCommand):
    help = __doc__

    def handle(self, *args, **options):
        """Starts the demo of the local user."""
        user, _ = get_user_model().objects.get_or_create(username=LOCAL_USER)
        start_demo(user)
