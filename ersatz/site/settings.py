"""Settings from the environment, with safe defaults for one person on one machine.

ERSATZ_HOME       where database, media, cache and the secret key live (default: ./var)
ERSATZ_ACCOUNTS   1: people sign in; default: the local user is signed in by itself, on loopback only
ERSATZ_HOSTS      comma-separated host names beside loopback
ERSATZ_DATABASE_URL, ERSATZ_REDIS_URL   PostgreSQL and Redis when there are more machines
ERSATZ_MAX_UPLOAD_MB   largest file that is taken (default 300)
ERSATZ_DEBUG      1: Django's debug pages
"""

import os
import secrets
from pathlib import Path
from urllib.parse import urlparse

PACKAGE = Path(__file__).resolve().parent.parent
HOME = Path(os.environ.get("ERSATZ_HOME", "var")).resolve()
HOME.mkdir(parents=True, exist_ok=True)


def _secret_key() -> str:
    """Made on the first start, kept beside the data, readable by its owner only."""
    path = HOME / "secret_key"
    if not path.exists():
        handle = os.open(path, os.O_WRONLY | os.O_CREAT, 0o600)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(50))
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
    parts = urlparse(url)
    return {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": parts.path.lstrip("/"),
        "USER": parts.username,
        "PASSWORD": parts.password,
        "HOST": parts.hostname,
        "PORT": parts.port or 5432,
    }


SECRET_KEY = os.environ.get("ERSATZ_SECRET_KEY") or _secret_key()
DEBUG = os.environ.get("ERSATZ_DEBUG") == "1"
ACCOUNTS = os.environ.get("ERSATZ_ACCOUNTS") == "1"
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", "testserver"]
ALLOWED_HOSTS += [h for h in os.environ.get("ERSATZ_HOSTS", "").split(",") if h]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
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
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
ROOT_URLCONF = "ersatz.site.urls"
WSGI_APPLICATION = "ersatz.site.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {"context_processors": ["django.template.context_processors.request", "ersatz.studio.frame.accounts"]},
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
MAX_UPLOAD_BYTES = int(os.environ.get("ERSATZ_MAX_UPLOAD_MB", "300")) * 1024 * 1024
DATA_UPLOAD_MAX_MEMORY_SIZE = 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 256 * 1024
FILE_UPLOAD_TEMP_DIR = HOME / "uploads"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)

LOGIN_URL = "login"
LOGIN_REDIRECT_URL = "shelf"
LOGOUT_REDIRECT_URL = "login"
AUTH_PASSWORD_VALIDATORS = [{"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"}]
SESSION_COOKIE_SAMESITE = "Lax"
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
