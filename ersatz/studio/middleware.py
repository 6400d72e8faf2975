"""Content security policy on every answer; who may come in where nobody signs in; documents that can't be read."""

from collections.abc import Callable

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.http import HttpRequest, HttpResponse, HttpResponseForbidden

from ersatz.studio import errors
from ersatz.studio.models.documents import UnreadableRow

Handler = Callable[[HttpRequest], HttpResponse]
POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; media-src 'self' blob:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
LOOPBACK = ("127.0.0.1", "::1")
#: What a proxy adds to what it passes on (RFC 7239, RFC 9110 section 7.6.3, and their customary forerunners).
FORWARDED = (
    "HTTP_FORWARDED", "HTTP_VIA", "HTTP_X_FORWARDED_FOR", "HTTP_X_FORWARDED_HOST", "HTTP_X_FORWARDED_PROTO", "HTTP_X_REAL_IP",
)  # fmt: skip
LOCAL_USER = "local"
#: Says only that the server runs.
ALIVE = "/alive/"


def content_security_policy(get_response: Handler) -> Handler:
    """Nothing of another host is loaded, whatever a page holds."""

    def handle(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        return response

    return handle


def is_direct(request: HttpRequest) -> bool:
    """Whether a request comes from this machine itself: over loopback, and not passed on for somebody else."""
    return request.META.get("REMOTE_ADDR") in LOOPBACK and not any(name in request.META for name in FORWARDED)


def local_user(get_response: Handler) -> Handler:
    """Alone on one machine the local user is signed in by itself. Without accounts nobody else gets in: every request is checked,
    also one that brings a session."""

    def handle(request: HttpRequest) -> HttpResponse:
        if not settings.ACCOUNTS and request.path != ALIVE:
            if not is_direct(request):
                return HttpResponseForbidden("Ersatz without accounts answers on this machine only.")
            if not request.user.is_authenticated:
                user, _ = get_user_model().objects.get_or_create(username=LOCAL_USER)
                login(request, user, backend="django.contrib.auth.backends.ModelBackend")
        return get_response(request)

    return handle


def unreadable_documents(get_response: Handler) -> Handler:
    """A row whose document can't be read is said in one sentence."""

    def handle(request: HttpRequest) -> HttpResponse:
        return get_response(request)

    def process_exception(request: HttpRequest, exception: Exception) -> HttpResponse | None:
        return errors.unreadable(request, exception) if isinstance(exception, UnreadableRow) else None

    handle.process_exception = process_exception  # type: ignore[attr-defined]
    return handle
