"""Django settings. Everything that varies between installations comes from ARKUND_* variables.

| variable | default | meaning |
|---|---|---|
| ARKUND_DATA | the platform's user data folder | database, audio and prints |
| ARKUND_DEBUG | 0 | 1 shows error pages for developers |
| ARKUND_HOSTS | none | further host names that the server answers to |
| ARKUND_EXECUTOR | threads | dask://host:port runs long work on a cluster that shares the data folder (docs/scaling.md) |
| ARKUND_LOGIN | 0 | 1 asks for a login on every page (set by ``serve`` on any address but the loopback) |
"""

import os
import secrets
from pathlib import Path

import platformdirs
from csp.constants import NONE, SELF

DATA = Path(os.environ.get("ARKUND_DATA") or platformdirs.user_data_dir("arkund", appauthor=False))
DATA.mkdir(parents=True, exist_ok=True)
if not os.access(
    Path(__file__).parent, os.W_OK
):  # installed by someone else: compiled kernels cannot lie beside their source
    os.environ.setdefault("NUMBA_CACHE_DIR", str(DATA / "kernels"))


def _secret_key() -> str:
    path = DATA / "secret-key"
    if not path.exists():
        new = DATA / f".secret-key-{os.getpid()}"
        new.write_text(secrets.token_urlsafe(48))
        new.chmod(0o600)
        try:
            os.link(new, path)  # the first process wins, others read what it wrote
        except FileExistsError:
            pass
        finally:
            new.unlink()
    return path.read_text()


SECRET_KEY = _secret_key()
DEBUG = os.environ.get("ARKUND_DEBUG") == "1"
EXECUTOR = os.environ.get("ARKUND_EXECUTOR", "threads")
BACKGROUND = os.environ.get("ARKUND_BACKGROUND") != "0"  # measure the whole song after each change
LOGIN_REQUIRED = os.environ.get("ARKUND_LOGIN") == "1"
ALLOWED_HOSTS = [
    "127.0.0.1",
    "localhost",
    "[::1]",
    *filter(None, os.environ.get("ARKUND_HOSTS", "").split(",")),
]

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "csp",
    "arkund.studio",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    *(["django.contrib.auth.middleware.LoginRequiredMiddleware"] if LOGIN_REQUIRED else []),
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "arkund.studio.pages.errors.ErrorsMiddleware",
]
ROOT_URLCONF = "arkund.studio.urls"
WSGI_APPLICATION = "arkund.studio.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [Path(__file__).parent / "templates"],
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
            ],
            "builtins": ["arkund.studio.pages.tags"],
        },
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": DATA / "arkund.sqlite3",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL; PRAGMA busy_timeout=20000;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
STATIC_URL = "/static/"
STATICFILES_DIRS = [Path(__file__).parent / "static"]
STATIC_ROOT = DATA / "static"
WHITENOISE_USE_FINDERS = True
STATIC_ROOT.mkdir(exist_ok=True)  # empty: files are served from where they are
WHITENOISE_AUTOREFRESH = DEBUG
USE_TZ = True
TIME_ZONE = "UTC"
LOGIN_URL = "/login/"
LOGIN_REDIRECT_URL = "/"
LOGOUT_REDIRECT_URL = "/login/"
FILE_UPLOAD_TEMP_DIR = DATA / "incoming"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
DATA_UPLOAD_MAX_NUMBER_FILES = 400
DATA_UPLOAD_MAX_NUMBER_FIELDS = 2000
DATA_UPLOAD_MAX_MEMORY_SIZE = 2 * 1024 * 1024
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
SESSION_COOKIE_SAMESITE = CSRF_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_HTTPONLY = True
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "img-src": [SELF],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
        "base-uri": [NONE],
    }
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
