"""Addresses, page by page."""

from django.urls import include, path

urlpatterns = [
    path("", include("ersatz.studio.shelf.urls")),
    path("", include("ersatz.studio.survey.urls")),
    path("", include("ersatz.studio.target.urls")),
    path("", include("ersatz.studio.plan.urls")),
    path("", include("ersatz.studio.parts.urls")),
    path("", include("ersatz.studio.gap.urls")),
    path("", include("ersatz.studio.handover.urls")),
    path("listen/", include("ersatz.studio.listen.urls")),
    path("jobs/", include("ersatz.studio.jobs.urls")),
    path("accounts/", include("ersatz.studio.accounts.urls")),
]
