"""Django settings. Everything that varies between installations comes from ARKUND_* variables.

| variable | default | meaning |
|---|---|---|
| ARKUND_DATA | the platform's user data folder | database, audio and prints |
| ARKUND_DEBUG | 0 | 1 shows error pages for developers |
| ARKUND_HOSTS | none | further host names that the server answers to (``serve --name`` adds to them) |
| ARKUND_EXECUTOR | threads | dask://host:port runs long work on a cluster that shares the data folder (docs/scaling.md) |
| ARKUND_LOGIN | 0 | 1 asks for a login on every page (set by ``serve`` on any address but the loopback) |
| ARKUND_PROXY | none | address of a reverse proxy with TLS (set by ``serve --proxy``) |
| ARKUND_MEMORY | a quarter of the machine's | memory for the process, in MB |
| ARKUND_QUOTA_GB | 200 | recordings that a user who logs in may keep, in GB; the keeper's are not counted |
"""

import os
import secrets
from datetime import timedelta
from pathlib import Path

import platformdirs
from csp.constants import NONE, SELF

from arkund.studio.memory import budget_bytes

DATA = Path(os.environ.get("ARKUND_DATA") or platformdirs.user_data_dir("arkund", appauthor=False))
DATA.mkdir(mode=0o700, parents=True, exist_ok=True)
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
JOB_KINDS = "arkund.studio.jobs.kinds.KINDS"  # what can be done as a job
BACKGROUND = os.environ.get("ARKUND_BACKGROUND") != "0"  # measure the whole song after each change
LOGIN_REQUIRED = os.environ.get("ARKUND_LOGIN") == "1"
PROXY = os.environ.get("ARKUND_PROXY", "")
MEMORY_BYTES = budget_bytes()
QUOTA_BYTES = float(os.environ.get("ARKUND_QUOTA_GB") or 200) * 1e9
ALLOWED_HOSTS = list(
    dict.fromkeys(["127.0.0.1", "localhost", "[::1]", *filter(None, os.environ.get("ARKUND_HOSTS", "").split(","))])
)

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "axes",
    "csp",
    "arkund.studio",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "arkund.studio.pages.caching.caching",
    "arkund.studio.pages.errors.ErrorsMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    *(
        ["django.contrib.auth.middleware.LoginRequiredMiddleware", "axes.middleware.AxesMiddleware"]
        if LOGIN_REQUIRED
        else []
    ),
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
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
# Wrong passwords: after so many for one account from one address it waits; others, and the account from elsewhere, do not.
AXES_ENABLED = LOGIN_REQUIRED
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
AXES_FAILURE_LIMIT = 6
AXES_COOLOFF_TIME = timedelta(minutes=10)
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_RESET_ON_SUCCESS = True
AXES_LOCKOUT_TEMPLATE = "locked.html"
AXES_DISABLE_ACCESS_LOG = True
AXES_VERBOSE = False
SILENCED_SYSTEM_CHECKS = [] if LOGIN_REQUIRED else ["axes.W002"]  # without logins there is nothing to brake
AXES_IPWARE_PROXY_COUNT = None
AXES_CLIENT_IP_CALLABLE = "arkund.studio.hosts.address_of"
LOGIN_URL = "/login/"
LOGIN_REDIRECT_URL = "/"
LOGOUT_REDIRECT_URL = "/login/"
FILE_UPLOAD_TEMP_DIR = DATA / "incoming"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
DATA_UPLOAD_MAX_NUMBER_FILES = 400
DATA_UPLOAD_MAX_NUMBER_FIELDS = 2000
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
if PROXY:
    SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
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
