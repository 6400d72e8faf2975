"""Addresses, page by page."""

from django.http import HttpRequest, HttpResponse
from django.urls import include, path, register_converter

from ersatz.studio.converters import Number

register_converter(Number, "number")


def alive(request: HttpRequest) -> HttpResponse:
    """For whoever starts the server and wants to know that it answers."""
    return HttpResponse("alive", content_type="text/plain")


urlpatterns = [
    path("", include("ersatz.studio.shelf.urls")),
    path("", include("ersatz.studio.survey.urls")),
    path("", include("ersatz.studio.target.urls")),
    path("", include("ersatz.studio.edits.urls")),
    path("", include("ersatz.studio.plan.urls")),
    path("", include("ersatz.studio.parts.urls")),
    path("", include("ersatz.studio.balance.urls")),
    path("", include("ersatz.studio.gap.urls")),
    path("", include("ersatz.studio.handover.urls")),
    path("listen/", include("ersatz.studio.listen.urls")),
    path("jobs/", include("ersatz.studio.jobs.urls")),
    path("accounts/", include("ersatz.studio.accounts.urls")),
    path("alive/", alive),
]
handler400 = "ersatz.studio.errors.bad_request"
handler403 = "ersatz.studio.errors.forbidden"
handler404 = "ersatz.studio.errors.not_found"
handler500 = "ersatz.studio.errors.server_error"
