"""Settings, from the environment.

Local use is the default: loopback only, no login. ``DEFT_MASON_SHARED=1`` turns on accounts.
"""

import os
import secrets
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]
DATA = Path(os.environ.get("DEFT_MASON_DATA", ROOT / "data"))
DATA.mkdir(parents=True, exist_ok=True)
SHARED = os.environ.get("DEFT_MASON_SHARED", "") == "1"
DEBUG = False


def _secret() -> str:
    path = DATA / "secret.txt"
    if not path.exists():
        handle = os.open(path, os.O_CREAT | os.O_WRONLY, 0o600)
        with os.fdopen(handle, "w") as f:
            f.write(secrets.token_urlsafe(50))
    return path.read_text()


SECRET_KEY = _secret()
_names = [h for h in os.environ.get("DEFT_MASON_HOSTS", "").split(",") if h]
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *(_names if SHARED else [])]
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django_tasks",
    "django_tasks_db",
    "deftmason.server.jobs",
]
MIDDLEWARE = [
    "deftmason.server.guard.LoopbackOnly",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
ROOT_URLCONF = "deftmason.server.urls"
WSGI_APPLICATION = "deftmason.server.wsgi.application"
TEMPLATES = [
    {"BACKEND": "django.template.backends.django.DjangoTemplates", "DIRS": [], "APP_DIRS": True, "OPTIONS": {}}
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA / "mason.sqlite3",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;",
        },
        "TEST": {"NAME": DATA / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
STATIC_URL = "/static/"
WEB_DIST = ROOT / "web" / "dist"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.exists() else None
WHITENOISE_MAX_AGE = 0
DATA_UPLOAD_MAX_MEMORY_SIZE = 20_000_000
FILE_UPLOAD_MAX_MEMORY_SIZE = 1_000_000
FILE_UPLOAD_TEMP_DIR = DATA / "tmp"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
MOST_UPLOAD_BYTES = int(os.environ.get("DEFT_MASON_MOST_UPLOAD", 2_000_000_000))
TASKS = {
    "default": {
        "BACKEND": os.environ.get("DEFT_MASON_TASKS", "django_tasks_db.DatabaseBackend"),
        "QUEUES": ["default"],
    }
}
CSRF_COOKIE_SAMESITE = SESSION_COOKIE_SAMESITE = "Strict"
SECURE_CONTENT_TYPE_NOSNIFF = True
LOGIN_URL = "/"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
