"""Settings, read once from ALDRIP_* variables that the launcher sets."""

import os
from datetime import timedelta
from pathlib import Path
from typing import Any

from csp.constants import NONCE, SELF

ROOT = Path(__file__).resolve().parent.parent.parent
SECRET_KEY = os.environ.get("ALDRIP_SECRET_KEY", "only-for-commands-and-tests")
DEBUG = False
IS_DEMO = os.environ.get("ALDRIP_DEMO") == "1"  # only the database of `./aldrip demo` ever holds the invented season
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "testserver", "[::1]"]
ALLOWED_HOSTS += [host for host in os.environ.get("ALDRIP_HOSTS", "").split(",") if host]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "django.contrib.postgres",
    "ninja",
    "axes",
    "csp",
    "procrastinate.contrib.django",
    "aldrip.base",
    "aldrip.accounts",
    "aldrip.jobs",
    "aldrip.methods",
    "aldrip.places",
    "aldrip.diary",
    "aldrip.lots",
    "aldrip.orders",
    "aldrip.batches",
    "aldrip.sowing",
    "aldrip.stockplants",
    "aldrip.seedcrops",
    "aldrip.deliveries",
    "aldrip.season",
    "aldrip.archive",
    "aldrip.demo",
]
MIDDLEWARE = [
    "aldrip.base.requests.Numbered",
    "django.middleware.gzip.GZipMiddleware",
    "django.middleware.http.ConditionalGetMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "axes.middleware.AxesMiddleware",
    "aldrip.accounts.once.Once",
]
ROOT_URLCONF = "aldrip.urls"
WSGI_APPLICATION = "aldrip.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [ROOT / "server" / "aldrip" / "templates"],
        "OPTIONS": {"context_processors": ["csp.context_processors.nonce"]},
    }
]


def _limits() -> str:
    """How long a statement, and a wait for somebody else, may take where people wait for the answer."""
    # Rows are joined by their keys, outwards from the first: in which order else is thought about for long, and in vain.
    planned = "-c join_collapse_limit=4"
    longest = os.environ.get("ALDRIP_STATEMENT_MS")
    if not longest:
        return planned
    return (
        f"{planned} -c statement_timeout={longest} -c lock_timeout=15000 -c idle_in_transaction_session_timeout=60000"
    )


DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "HOST": os.environ.get("ALDRIP_DB_HOST", "127.0.0.1"),
        "PORT": os.environ.get("ALDRIP_DB_PORT", "5432"),
        "NAME": os.environ.get("ALDRIP_DB_NAME", "aldrip"),
        "USER": os.environ.get("ALDRIP_DB_USER", "aldrip"),
        "PASSWORD": os.environ.get("ALDRIP_DB_PASSWORD", ""),
        "OPTIONS": {"options": _limits()},
        "CONN_MAX_AGE": 60,
        "CONN_HEALTH_CHECKS": True,
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
AUTH_USER_MODEL = "accounts.User"
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 10}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "aldrip.accounts.people.EnoughOfIt"},
]

# Five wrong passwords lock the name from that address for a quarter of an hour (real time).
AXES_FAILURE_LIMIT = 5
AXES_COOLOFF = timedelta(minutes=15)
AXES_COOLOFF_TIME = AXES_COOLOFF
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_RESET_ON_SUCCESS = True
AXES_VERBOSE = False
AXES_LOCKOUT_CALLABLE = "aldrip.accounts.api.locked_out"
SILENCED_SYSTEM_CHECKS = ["axes.W003"]

SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_NAME = os.environ.get("ALDRIP_COOKIE", "aldrip_session")
CSRF_COOKIE_NAME = SESSION_COOKIE_NAME + "_csrf"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE = os.environ.get("ALDRIP_HTTPS") == "1"
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE
CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in os.environ.get("ALDRIP_HOSTS", "").split(",") if host]
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [SELF],
        "style-src": [SELF, NONCE],
        "script-src": [SELF],
        "img-src": [SELF, "data:", "blob:"],
        "frame-ancestors": ["'none'"],
        "base-uri": [SELF],
        "form-action": [SELF],
    }
}

PASSWORD_RESET_TIMEOUT = 24 * 3600
SET_UP_WORD = os.environ.get("ALDRIP_SET_UP", "")  # what the first visitor of an empty house is asked for

USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"
STATIC_URL = "/static/"
WEB_DIST = ROOT / "web" / "dist"
# WhiteNoise serves the build as it stands, packed where a packed file lies beside; names carry a hash and never change.
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/.+-[\w-]{8}\.\w+$"
WHITENOISE_ROOT = str(WEB_DIST) if WEB_DIST.exists() else None
WHITENOISE_INDEX_FILE = False
DATA_UPLOAD_MAX_MEMORY_SIZE = 10 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 10 * 1024 * 1024
TEST_RUNNER = "tests.runner.Runner"
NINJA_PAGINATION_MAX_LIMIT = 5000

LOGGING: dict[str, Any] = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"lines": {"()": "aldrip.base.requests.Lines"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "lines"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {
        "django.request": {"level": os.environ.get("ALDRIP_REQUEST_LOG", "ERROR")},
        "fontTools": {"level": "ERROR"},
        "axes": {"level": "CRITICAL"},
        "django.security": {"level": "ERROR"},
        "weasyprint": {"level": "ERROR"},
        "procrastinate": {"level": "ERROR"},
    },
}
if os.environ.get("ALDRIP_LOGS"):  # where it serves: every request stands in a file that turns over, one a process
    LOGGING["handlers"]["file"] = {
        "class": "logging.handlers.RotatingFileHandler",
        "filename": str(Path(os.environ["ALDRIP_LOGS"]) / f"{os.environ.get('ALDRIP_PROCESS', 'command')}.log"),
        "maxBytes": 10 << 20,
        "backupCount": 5,
        "encoding": "utf-8",
        "delay": True,
        "formatter": "lines",
    }
    LOGGING["handlers"]["console"]["level"] = "WARNING"
    LOGGING["root"]["handlers"] = ["console", "file"]
    LOGGING["loggers"]["aldrip"] = {"level": "INFO"}
