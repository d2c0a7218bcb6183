"""Settings, from the environment.

Local use is the default: loopback only, no login. ``DEFT_MASON_SHARED=1`` turns on accounts.
"""

import errno
import os
import secrets
import sys
from pathlib import Path

from .machines import database, queue_of, shared_store, task_backend

ROOT = Path(__file__).resolve().parents[3]
DATA = Path(os.environ.get("DEFT_MASON_DATA", ROOT / "data"))
SHARED = os.environ.get("DEFT_MASON_SHARED", "") == "1"
DEBUG = False
os.umask(0o077)  # the database, the secret and everything brought in are the server's own


def make_ready(folder: Path) -> None:
    """The data folder with what stands in it; a sentence where it cannot be written."""
    try:
        for part in ("", "tmp", "results", "blobs", "pictures", "captures"):
            (folder / part).mkdir(parents=True, exist_ok=True)
        folder.chmod(0o700)
        probe = folder / "tmp" / f"probe-{os.getpid()}"
        probe.write_text("")
        probe.unlink()
    except OSError as e:
        if e.errno == errno.ENOSPC:
            return  # what is there can still be looked at
        sys.exit(
            f"The data folder {folder} cannot be written to ({e.strerror}); give it to this user, or "
            "set DEFT_MASON_DATA to another."
        )


def _secret() -> str:
    path = DATA / "secret.txt"
    try:
        handle = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600)
    except FileExistsError:
        path.chmod(0o600)
        return path.read_text()
    with os.fdopen(handle, "w") as f:
        f.write(secrets.token_urlsafe(50))
    return path.read_text()


make_ready(DATA)
SECRET_KEY = _secret()
_names = [h for h in os.environ.get("DEFT_MASON_HOSTS", "").split(",") if h]
ALLOWED_HOSTS = ["127.0.0.1", "localhost", "[::1]", *(_names if SHARED else [])]
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django_tasks",
    "django_tasks_db",
    *(["django_rq", "django_tasks_rq"] if os.environ.get("REDIS_URL") else []),
    "axes",
    "deftmason.server.jobs",
]
MIDDLEWARE = [
    "deftmason.server.guard.Guard",
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "axes.middleware.AxesMiddleware",
]
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
# A name that was tried ten times with a wrong password from one address rests a quarter of an hour there.
AXES_FAILURE_LIMIT = 10
AXES_COOLOFF_TIME = 0.25
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_LOCKOUT_CALLABLE = "deftmason.server.jobs.errors.locked_out"
AXES_RESET_ON_SUCCESS = True
AXES_VERBOSE = False
AXES_DISABLE_ACCESS_LOG = True
ROOT_URLCONF = "deftmason.server.urls"
WSGI_APPLICATION = "deftmason.server.wsgi.application"
TEMPLATES = [
    {"BACKEND": "django.template.backends.django.DjangoTemplates", "DIRS": [], "APP_DIRS": True, "OPTIONS": {}}
]
DATABASES = {"default": database(DATA, os.environ.get("DATABASE_URL", ""))}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
STATIC_URL = "/static/"
WEB_DIST = ROOT / "web" / "dist"
WHITENOISE_ROOT = WEB_DIST if WEB_DIST.exists() else None
WHITENOISE_MAX_AGE = 0
WHITENOISE_ALLOW_ALL_ORIGINS = False
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": ["'none'"],
        "script-src": ["'self'"],
        "style-src": ["'self'"],
        "font-src": ["'self'"],
        "img-src": ["'self'", "data:", "blob:"],
        "connect-src": ["'self'"],
        "worker-src": ["'self'", "blob:"],
        "form-action": ["'self'"],
        "base-uri": ["'none'"],
        "frame-ancestors": ["'none'"],
    }
}
DATA_UPLOAD_MAX_MEMORY_SIZE = 20_000_000
FILE_UPLOAD_MAX_MEMORY_SIZE = 1_000_000
FILE_UPLOAD_TEMP_DIR = DATA / "tmp"
FILE_UPLOAD_PERMISSIONS = 0o600
#: Where capture devices may be: this machine, and what the setting names.
DEVICE_HOSTS = ("127.0.0.1", "localhost", *(h for h in os.environ.get("DEFT_MASON_DEVICES", "").split(",") if h))
MOST_UPLOAD_BYTES = int(os.environ.get("DEFT_MASON_MOST_UPLOAD", 2_000_000_000))
REDIS_URL = os.environ.get("REDIS_URL", "")
TASKS = {"default": {"BACKEND": task_backend(REDIS_URL), "QUEUES": ["default"]}}
RQ_QUEUES = queue_of(REDIS_URL)
_STORE = shared_store(os.environ.get("DEFT_MASON_STORE", ""))
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage", "OPTIONS": {"location": str(DATA)}},
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
    **({"shared": _STORE} if _STORE else {}),
}
CSRF_COOKIE_SAMESITE = SESSION_COOKIE_SAMESITE = "Strict"
# Shared use goes through HTTPS; DEFT_MASON_PLAIN_HTTP=1 where the network itself is trusted.
CSRF_COOKIE_SECURE = SESSION_COOKIE_SECURE = SHARED and os.environ.get("DEFT_MASON_PLAIN_HTTP", "") != "1"
CSRF_FAILURE_VIEW = "deftmason.server.jobs.errors.forbidden"
SECURE_REFERRER_POLICY = "same-origin"
SECURE_CONTENT_TYPE_NOSNIFF = True
LOGIN_URL = "/"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "loggers": {
        "django.request": {"level": "CRITICAL"},
        "django.security": {"level": "ERROR"},
        "axes": {"level": "ERROR"},
    },
    "root": {"handlers": ["console"], "level": "WARNING"},
}
