"""Django settings; everything that differs between deployments comes from the environment."""

import re
from base64 import b64encode
from datetime import timedelta
from hashlib import sha256
from pathlib import Path

import dj_database_url
from csp.constants import NONE, SELF

from .environment import flag, mail_settings, networks, setting

BASE_DIR = Path(__file__).resolve().parents[2]
WEB_BUILD = BASE_DIR / "web" / "build"

SECRET_KEY = setting("YUVREL_SECRET_KEY")
SEAL_KEYS = setting("YUVREL_SEAL_KEYS").split(",")
DEBUG = False
ALLOWED_HOSTS = setting("YUVREL_HOSTS", "127.0.0.1,localhost").split(",")
CSRF_TRUSTED_ORIGINS = [o for o in setting("YUVREL_ORIGINS", "").split(",") if o]
ALLOW_PRIVATE_ADDRESSES = flag("YUVREL_ALLOW_PRIVATE_ADDRESSES")
PUBLIC_ADDRESS = setting("YUVREL_ADDRESS", "http://127.0.0.1:8070")
SECURE = flag("YUVREL_SECURE", PUBLIC_ADDRESS.startswith("https"))

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.postgres",
    "django.contrib.staticfiles",
    "csp",
    "ninja",
    "pgtrigger",
    "procrastinate.contrib.django",
    "yuvrel.events",
    "yuvrel.people",
    "yuvrel.documents",
    "yuvrel.rules",
    "yuvrel.intake",
    "yuvrel.catalogue",
    "yuvrel.books",
    "yuvrel.stock",
    "yuvrel.pricing",
    "yuvrel.sales",
    "yuvrel.buying",
    "yuvrel.planning",
    "yuvrel.channels",
    "yuvrel.recovery",
    "yuvrel.agreement",
    "yuvrel.server",
]

MIDDLEWARE = [
    "yuvrel.server.logs.RequestIdMiddleware",
    "yuvrel.server.problems.AnswerMiddleware",
    "yuvrel.server.reads.ReadsMiddleware",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.gzip.GZipMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "yuvrel.server.companies.IdleMiddleware",
    "yuvrel.server.companies.CompanyMiddleware",
    "yuvrel.server.problems.TextMiddleware",
    "yuvrel.server.idempotency.IdempotencyMiddleware",
]

ROOT_URLCONF = "yuvrel.server.urls"
WSGI_APPLICATION = "yuvrel.server.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE_DIR / "yuvrel" / "buying" / "templates"],
        "APP_DIRS": True,
    }
]

DATABASES = {"default": dj_database_url.parse(setting("DATABASE_URL"))}
DATABASES["default"]["CONN_MAX_AGE"] = 0
# Every trigger looks this up; where it is not set, the look-up raises and is caught, a subtransaction rolled back for
# each row, and the commit of an entry with n lines takes n × n steps: 16.5 s for 40,000 lines, and 1.5 s with it.
# A long sheet is sorted in memory: with the server's own four megabytes 60,000 rows went by way of the disk.
DATABASES["default"].setdefault("OPTIONS", {})["options"] = "-c pgtrigger.ignore={} -c work_mem=16MB"
if DATABASES["default"]["ENGINE"].endswith("postgresql") and not flag("YUVREL_NO_POOL"):
    DATABASES["default"].setdefault("OPTIONS", {})["pool"] = {"min_size": 1, "max_size": 12}
    # Connections are checked when they are taken, so that a restart of the server goes unnoticed here.
    DATABASES["default"]["CONN_HEALTH_CHECKS"] = True

MAIL_IS_SET = bool(setting("YUVREL_MAIL", ""))
globals().update(mail_settings(setting("YUVREL_MAIL", "")))
DEFAULT_FROM_EMAIL = setting("YUVREL_MAIL_FROM", "Yuvrel <yuvrel@localhost>")

AUTH_USER_MODEL = "people.User"
# OWASP ASVS 4.0.3, 2.1.1 and 2.1.7: twelve characters, and none of the commonest (twenty thousand, shipped with Django).
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    *(
        {"NAME": f"django.contrib.auth.password_validation.{name}"}
        for name in ("CommonPasswordValidator", "UserAttributeSimilarityValidator", "NumericPasswordValidator")
    ),
]
AUTHENTICATION_BACKENDS = [
    "yuvrel.people.backends.PeopleBackend",
]
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
# A standby is read and not written to: whoever changes something is told so.
READ_ONLY = flag("YUVREL_READ_ONLY")
# Where a proxy of ours stands, whose word on who asks is believed.
TRUSTED_PROXIES = networks(setting("YUVREL_TRUSTED_PROXIES", ""))
# OWASP ASVS 4.0.3, 3.3.2: after 30 minutes without anything done, or 12 hours, somebody signs in again.
IDLE = timedelta(minutes=int(setting("YUVREL_IDLE_MINUTES", "30")))

SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_AGE = 60 * 60 * 12
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE
SECURE_SSL_REDIRECT = flag("YUVREL_REDIRECT_TO_HTTPS")
SECURE_HSTS_SECONDS = 31_536_000 if SECURE else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = SECURE
X_FRAME_OPTIONS = "DENY"


def _inline_scripts() -> list[str]:
    """Hashes of the few lines that start the built front end; no other inline script runs."""
    index = WEB_BUILD / "index.html"
    if not index.exists():
        return []
    found = re.findall(r"<script>(.*?)</script>", index.read_text(), re.DOTALL)
    return [f"'sha256-{b64encode(sha256(text.encode()).digest()).decode()}'" for text in found]


CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF, *_inline_scripts()],
        # Svelte sets style attributes for positions and widths; they carry no script.
        "style-src": [SELF, "'unsafe-inline'"],
        "img-src": [SELF, "data:"],
        "font-src": [SELF],
        "connect-src": [SELF],
        "form-action": [SELF],
        "frame-ancestors": [NONE],
        "base-uri": [SELF],
        "manifest-src": [SELF],
    },
}
DATA_UPLOAD_MAX_MEMORY_SIZE = 12 * 1024 * 1024

USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

STATIC_URL = "static/"
STATIC_ROOT = BASE_DIR / ".data" / "static"
WHITENOISE_ROOT = WEB_BUILD if WEB_BUILD.is_dir() else None
WHITENOISE_USE_FINDERS = True
STATIC_ROOT.mkdir(parents=True, exist_ok=True)


def _immutable(path: str, url: str) -> bool:
    return "/_app/immutable/" in url


WHITENOISE_IMMUTABLE_FILE_TEST = _immutable

PROCRASTINATE_AUTODISCOVER_MODULE_NAME = "jobs"

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "filters": {"trace": {"()": "yuvrel.server.logs.TraceFilter"}},
    "formatters": {
        "line": {"format": "{asctime} {levelname} {name} [{trace}] {message}", "style": "{"},
        "json": {
            "()": "pythonjsonlogger.json.JsonFormatter",
            "format": "{asctime}{levelname}{name}{trace}{message}",
            "style": "{",
            "rename_fields": {"asctime": "at", "levelname": "level", "name": "logger"},
        },
    },
    "handlers": {
        "stderr": {
            "class": "logging.StreamHandler",
            "formatter": setting("YUVREL_LOG_FORMAT", "line"),
            "filters": ["trace"],
        }
    },
    "root": {"handlers": ["stderr"], "level": setting("YUVREL_LOG_LEVEL", "WARNING")},
    "loggers": {"httpx": {"level": "WARNING"}, "fontTools": {"level": "ERROR"}, "weasyprint": {"level": "ERROR"}},
}
# Where the demo's simulated services are; its sign-ins are shown at the door. Empty everywhere else.
DEMO_STANDINS = setting("YUVREL_DEMO_STANDINS", "")
METRICS_TOKEN = setting("YUVREL_METRICS_TOKEN", "")
