"""Django's settings. What differs from machine to machine comes from the environment, set by `yama.launch`."""

from __future__ import annotations

import os
from pathlib import Path

BASE_DIR = Path(__file__).resolve().parents[2]
VAR_DIR = Path(os.environ.get("YAMA_VAR", BASE_DIR / "var"))
STORE_DIR = VAR_DIR / "store"
_FONTS = BASE_DIR / "web" / "node_modules" / "@fontsource-variable"
REPORT_FONTS = {
    "sans": _FONTS / "instrument-sans" / "files" / "instrument-sans-latin-wght-normal.woff2",
    "mono": _FONTS / "spline-sans-mono" / "files" / "spline-sans-mono-latin-wght-normal.woff2",
}
"""The desk's own, for reports; one that is not there is done without."""
"""Arrays and uploads live here as files named by key; the database lists them."""

SECRET_KEY = os.environ.get("YAMA_SECRET", "only-for-commands-that-serve-nobody")
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "testserver"]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "yama.service.accounts",
    "yama.service.projects",
    "yama.service.holdings",
    "yama.service.jobs",
    "yama.service.surfaces",
    "yama.service.arrivals",
    "yama.service.runs",
    "yama.service.judging",
    "yama.service.draining",
    "yama.service.mending",
    "yama.service.tiles",
    "yama.service.depots",
    "yama.service.delivery",
    "yama.service.sharing",
    "yama.service.upkeep",
]
DATA_UPLOAD_MAX_MEMORY_SIZE = 48_000_000
"""Bytes of a request that is no file: lines of a hundred thousand corners are asked about."""
MIDDLEWARE = [
    "yama.service.accounts.front.ClientAddress",
    "django.middleware.security.SecurityMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
ROOT_URLCONF = "yama.service.urls"
TEMPLATES: list[dict[str, object]] = []

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.mysql",
        "NAME": "yama",
        "USER": "yama",
        "PASSWORD": os.environ.get("YAMA_DB_PASSWORD", ""),
        "HOST": "127.0.0.1",
        "PORT": os.environ.get("YAMA_DB_PORT", "3306"),
        "CONN_MAX_AGE": 600,
        "CONN_HEALTH_CHECKS": True,
        "OPTIONS": {"charset": "utf8mb4", "init_command": "SET sql_mode='STRICT_ALL_TABLES'"},
        "TEST": {"CHARSET": "utf8mb4", "COLLATION": "utf8mb4_bin"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

REDIS_URL = os.environ.get("YAMA_REDIS_URL", "redis://127.0.0.1:6379/0")
CACHES = {
    "default": {"BACKEND": "django.core.cache.backends.redis.RedisCache", "LOCATION": REDIS_URL, "TIMEOUT": 86_400}
}
SESSION_ENGINE = "django.contrib.sessions.backends.cached_db"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
X_FRAME_OPTIONS = "DENY"

CELERY_BROKER_URL = REDIS_URL
CELERY_TASK_ACKS_LATE = True
CELERY_TASK_IGNORE_RESULT = True
CELERY_WORKER_PREFETCH_MULTIPLIER = 1
CELERY_BROKER_CONNECTION_RETRY_ON_STARTUP = True

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]

STATIC_URL = "/static/"
STATIC_ROOT = BASE_DIR / "web" / "dist"

USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"

MAX_UPLOAD_BYTES = int(os.environ.get("YAMA_MAX_UPLOAD_MB", "4096")) * 1_000_000
"""Largest file that is taken in. It streams to disk, never through memory."""
DEPOT_URL = os.environ.get("YAMA_DEPOT_URL", "http://127.0.0.1:9")
DEPOTS = ["beacon", "plover", "heron", "skerry"]
"""Elevation providers; each has its own part of DEPOT_URL. Nobody else is ever asked."""

JOB_SILENCE_SECONDS = float(os.environ.get("YAMA_JOB_SILENCE", "12"))
"""A running job not heard of for this long lost its worker."""

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"format": "%(asctime)s %(levelname)s %(name)s: %(message)s"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "line"}},
    "root": {"handlers": ["console"], "level": "INFO"},
    "loggers": {
        "django.request": {"level": "ERROR"},
        "rasterio": {"level": "ERROR"},
        "pyogrio": {"level": "WARNING"},
        "laspy": {"level": "CRITICAL"},
        "urllib3": {"level": "ERROR"},
        "werkzeug": {"level": "ERROR"},
        "ezdxf": {"level": "ERROR"},
        "weasyprint": {"level": "ERROR"},
        "fontTools": {"level": "ERROR"},
        "distributed": {"level": "ERROR"},
    },
}

TEST_RUNNER = "tests.runner.Runner"
