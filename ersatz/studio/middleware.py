"""Content security policy on every answer; the local user where nobody needs to sign in."""

from collections.abc import Callable

from django.conf import settings
from django.contrib.auth import get_user_model, login
from django.http import HttpRequest, HttpResponse, HttpResponseForbidden

Handler = Callable[[HttpRequest], HttpResponse]
POLICY = (
    "default-src 'self'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; media-src 'self' blob:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"
)
LOOPBACK = ("127.0.0.1", "::1", "")
LOCAL_USER = "local"


def content_security_policy(get_response: Handler) -> Handler:
    def handle(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        return response

    return handle


def local_user(get_response: Handler) -> Handler:
    """Alone on one machine the local user is signed in by itself, on loopback only."""

    def handle(request: HttpRequest) -> HttpResponse:
        if not settings.ACCOUNTS and not request.user.is_authenticated:
            if request.META.get("REMOTE_ADDR", "") not in LOOPBACK:
                return HttpResponseForbidden("Ersatz without accounts answers on this machine only.")
            user, _ = get_user_model().objects.get_or_create(username=LOCAL_USER)
            login(request, user, backend="django.contrib.auth.backends.ModelBackend")
        return get_response(request)

    return handle
