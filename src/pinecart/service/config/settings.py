"""Django's settings. Everything that differs between installations comes from the state folder."""

from __future__ import annotations

from pathlib import Path

from pinecart import __version__
from pinecart.service.config.state import StateFolder

STATE = StateFolder.from_environment()
OPTIONS = STATE.options()
try:
    SECRET_KEY = STATE.secret("django.key")
except FileNotFoundError:  # no state yet: checks, migrations being written, the API description
    SECRET_KEY = "no state folder yet"  # noqa: S105
DEBUG = False
ALLOWED_HOSTS = ["*"]  # the gate has looked at it
MOST_BODY = DATA_UPLOAD_MAX_MEMORY_SIZE = 1 << 20  # bytes, of all but uploads
USE_TZ = True
TIME_ZONE = "UTC"
APPEND_SLASH = False
ROOT_URLCONF = "pinecart.service.config.urls"
INSTALLED_APPS = [
    "django.contrib.contenttypes",
    "django.contrib.auth",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    "pinecart.service.people",
    "pinecart.service.stores",
    "pinecart.service.jobs",
    "pinecart.service.ledger",
    "pinecart.service.aside",
    "pinecart.service.runs",
    "pinecart.service.triggers",
    "pinecart.service.settings",
    "pinecart.service.trail",
    "pinecart.service.notices",
]
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
MIDDLEWARE = [
    "pinecart.service.config.negotiation.guarded_on_its_way",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
]
DATABASES = {
    "default": {
        "ENGINE": "pinecart.service.config.database",
        "NAME": STATE.database,
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 0.05,  # the backend waits longer, and fairly
            "init_command": (
                "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON; "
                "PRAGMA cache_size=-8000;"
            ),
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.ScryptPasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [
    {
        "NAME": "django.contrib.auth.password_validation.MinimumLengthValidator",
        "OPTIONS": {"min_length": 12},
    },
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
]
SESSION_ENGINE = "pinecart.service.people.session_store"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Strict"
SESSION_COOKIE_NAME = "pinecart_session"
CSRF_COOKIE_NAME = "pinecart_csrf"
CSRF_FAILURE_VIEW = "pinecart.service.config.urls.not_from_the_console"
CSRF_COOKIE_SAMESITE = "Strict"
SESSION_COOKIE_AGE = 12 * 3600
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = bool(OPTIONS.certificate)
SECURE_HSTS_SECONDS = (
    180 * 86_400 if OPTIONS.certificate or OPTIONS.behind else 0
)  # said only over TLS
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"

CONSOLE = Path(__file__).parent.parent / "console_built"
WHITENOISE_ROOT = CONSOLE if CONSOLE.exists() else None
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/assets/.+$"

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "pinecart.service.people.sign_in.ByToken",
        "pinecart.service.people.sign_in.ByCookie",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["pinecart.service.config.rights.ByTable"],
    "DEFAULT_RENDERER_CLASSES": ["pinecart.service.config.quick_json.QuickJSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["pinecart.service.config.negotiation.Json"],
    "DEFAULT_CONTENT_NEGOTIATION_CLASS": "pinecart.service.config.negotiation.OneForm",
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "pinecart.service.config.problems.as_problem",
    "URL_FORMAT_OVERRIDE": None,
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Pine Cart",
    "VERSION": __version__,
    "DESCRIPTION": "Defines, runs and audits transfers between folders and object-storage buckets.",
    "SERVE_INCLUDE_SCHEMA": False,
    "SCHEMA_PATH_PREFIX": "/api/v1",
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {
        "RunKind": ["transfer", "preview", "audit"],
        "StoreKind": "pinecart.drivers.KINDS",
        "EntryKind": ["file", "folder", "bucket"],
        "YesOrNo": ["yes", "no"],
        "AuditDepth": ["names", "metadata", "content"],
        "HappeningKind": "pinecart.service.notices.api.KINDS",
        "RightName": ["look", "operate", "define", "administer"],
    },
    "ENUM_ADD_EXPLICIT_BLANK_NULL_CHOICE": False,
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "pinecart.service.config.describing.with_problems",
    ],
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {
        "plain": {"format": "%(asctime)s %(name)s %(levelname)s %(message)s"},
        "json": {"()": "pinecart.service.config.json_log.JsonLines"},
    },
    "handlers": {"stderr": {"class": "logging.StreamHandler", "formatter": OPTIONS.log_format}},
    "loggers": {"django.request": {"level": "ERROR"}},
    "root": {"handlers": ["stderr"], "level": "WARNING"},
}
