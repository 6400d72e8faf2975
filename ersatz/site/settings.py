"""Settings from the environment, with safe defaults for one person on one machine.

ERSATZ_HOME       where database, media, cache and the secret key live (default: ./var)
ERSATZ_ACCOUNTS   1: people sign in; default: the local user is signed in by itself, on loopback only
ERSATZ_HOSTS      comma-separated host names beside loopback
ERSATZ_DATABASE_URL, ERSATZ_REDIS_URL   PostgreSQL and Redis when there are more machines
ERSATZ_MAX_UPLOAD_MB   largest file that is taken (default 300)
ERSATZ_WEB_PROCESSES   processes that serve pages and audio (default 2)
ERSATZ_RENDER_MB   what each process that renders keeps in memory (default 400)
ERSATZ_DEBUG      1: Django's debug pages
"""

import os
import secrets
import tempfile
from datetime import timedelta
from pathlib import Path

import dj_database_url
from django.core.exceptions import ImproperlyConfigured

PACKAGE = Path(__file__).resolve().parent.parent
HOME = Path(os.environ.get("ERSATZ_HOME", "var")).resolve()
HOME.mkdir(parents=True, exist_ok=True)


def _secret_key() -> str:
    """Made on the first start, kept beside the data, readable by its owner only. Written whole or not at all; an empty one, left by
    a full disk, is made anew."""
    path = HOME / "secret_key"
    for _ in range(2):
        if path.exists() and (key := path.read_text().strip()):
            return key
        handle, name = tempfile.mkstemp(dir=HOME, prefix="secret_key.")
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(50))
        path.unlink(missing_ok=True)
        try:
            # Of several that start at once one is first; all use its key.
            os.link(name, path)
        except FileExistsError:
            pass
        finally:
            os.unlink(name)
    return path.read_text().strip()


def _database() -> dict:
    url = os.environ.get("ERSATZ_DATABASE_URL")
    if not url:
        return {
            "ENGINE": "django.db.backends.sqlite3",
            "NAME": HOME / "ersatz.sqlite3",
            "OPTIONS": {
                "timeout": 20,
                "transaction_mode": "IMMEDIATE",
                "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
            },
        }
    return dict(dj_database_url.parse(url))


SECRET_KEY = os.environ.get("ERSATZ_SECRET_KEY") or _secret_key()
DEBUG = os.environ.get("ERSATZ_DEBUG") == "1"
ACCOUNTS = os.environ.get("ERSATZ_ACCOUNTS") == "1"
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]"]
_hosts = [h.strip() for h in os.environ.get("ERSATZ_HOSTS", "").split(",") if h.strip()]
if _hosts and not ACCOUNTS:
    raise ImproperlyConfigured("ERSATZ_HOSTS lets other machines in, so people have to sign in: set ERSATZ_ACCOUNTS=1 as well.")
ALLOWED_HOSTS += _hosts

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "axes",
    "huey.contrib.djhuey",
    "ersatz.studio",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "ersatz.studio.middleware.content_security_policy",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "ersatz.studio.middleware.local_user",
    "ersatz.studio.middleware.unreadable_documents",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "axes.middleware.AxesMiddleware",
]
ROOT_URLCONF = "ersatz.site.urls"
WSGI_APPLICATION = "ersatz.site.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {"context_processors": ["django.template.context_processors.request", "ersatz.studio.shared.frame.accounts"]},
    }
]
DATABASES = {"default": _database()}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
LANGUAGE_CODE = "en"
USE_TZ = True
TIME_ZONE = "UTC"

STATIC_URL = "/static/"
STATIC_ROOT = HOME / "static"
STATIC_ROOT.mkdir(exist_ok=True)
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = DEBUG
MEDIA_ROOT = Path(os.environ.get("ERSATZ_MEDIA", HOME / "media"))
RENDER_CACHE = HOME / "renders"
# In each of the processes that render, two that serve and the worker; 0: what the cache takes by itself.
RENDER_MEMORY_BYTES = int(os.environ.get("ERSATZ_RENDER_MB", "0")) * 1024 * 1024
MAX_UPLOAD_BYTES = int(os.environ.get("ERSATZ_MAX_UPLOAD_MB", "300")) * 1024 * 1024
DATA_UPLOAD_MAX_MEMORY_SIZE = 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 256 * 1024
FILE_UPLOAD_TEMP_DIR = HOME / "uploads"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)

LOGIN_URL = "login"
LOGIN_REDIRECT_URL = "shelf"
LOGOUT_REDIRECT_URL = "login"
_VALIDATION = "django.contrib.auth.password_validation"
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"{_VALIDATION}.UserAttributeSimilarityValidator"},
    {"NAME": f"{_VALIDATION}.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": f"{_VALIDATION}.CommonPasswordValidator"},
    {"NAME": f"{_VALIDATION}.NumericPasswordValidator"},
]
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
# Five wrong passwords for a name, and it has to wait a while, whoever asks.
AXES_ENABLED = ACCOUNTS
AXES_FAILURE_LIMIT = 5
AXES_COOLOFF_TIME = timedelta(minutes=15)
AXES_LOCKOUT_PARAMETERS = ["username"]
AXES_RESET_ON_SUCCESS = True
AXES_LOCKOUT_CALLABLE = "ersatz.studio.errors.locked_out"
AXES_VERBOSE = False
SESSION_COOKIE_SAMESITE = "Lax"
# With accounts people come over TLS, which a proxy on this machine ends; gunicorn takes its word for the scheme.
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE_SSL_REDIRECT = ACCOUNTS
SECURE_REDIRECT_EXEMPT = [r"^alive/$"]
SECURE_HSTS_SECONDS = 365 * 24 * 3600 if ACCOUNTS else 0
# Other names of the owner's domain, and lists in browsers, are not ours to decide about.
# Behind a proxy all come from one address, so that wrong passwords are counted by name alone.
SILENCED_SYSTEM_CHECKS = ["security.W005", "security.W021", "axes.W006"]
CSRF_FAILURE_VIEW = "ersatz.studio.errors.csrf_failure"
X_FRAME_OPTIONS = "DENY"
SECURE_REFERRER_POLICY = "same-origin"

_redis = os.environ.get("ERSATZ_REDIS_URL")
HUEY = {
    "huey_class": "huey.RedisHuey" if _redis else "huey.SqliteHuey",
    "name": "ersatz",
    "immediate": False,
    "connection": {"url": _redis} if _redis else {"filename": str(HOME / "huey.sqlite3")},
    "consumer": {"workers": 1, "worker_type": "thread", "initial_delay": 0.05, "max_delay": 0.5, "periodic": True},
}

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": os.environ.get("ERSATZ_LOG", "WARNING")},
}
