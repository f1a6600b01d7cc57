"""Settings, from the environment or a ``.env`` file (see ``.env.example``). They only read."""

from __future__ import annotations

from csp.constants import NONE, SELF

from web.common.storage_url import storage_of
from web.first_start import BASE, environment

env, DATA = environment()
DEBUG = env.bool("STEADY_DEBUG", False)
DEMO = env.bool("STEADY_DEMO", False)
HTTPS = env.bool("STEADY_HTTPS", False)
HOST = env.str("STEADY_HOST", "127.0.0.1")
PORT = env.int("STEADY_PORT", 8000)
#: Addresses or networks of reverse proxies whose X-Forwarded headers are believed; "unix" for one
#: that comes through a socket of this machine.
TRUSTED_PROXIES = env.list("STEADY_TRUSTED_PROXIES", default=[]) or (
    ["127.0.0.1", "::1"] if HTTPS else []
)
#: An MQTT broker that `manage.py listen` listens to, certificates it is checked against, and who
#: may name topics of it. Off unless given.
MQTT_URL = env.str("STEADY_MQTT_URL", "")
MQTT_CA = env.str("STEADY_MQTT_CA", "")
MQTT_USERS = env.list("STEADY_MQTT_USERS", default=[])
#: First part of the topics on which `manage.py send` publishes, and the prefix at which the house
#: looks for descriptions of sensors. Off unless given.
MQTT_OUT = env.str("STEADY_MQTT_OUT", "")
MQTT_DISCOVERY = env.str("STEADY_MQTT_DISCOVERY", "")
#: Networks inside that webhooks may lead to, such as 192.168.1.0/24; none unless given.
HOOKS_INSIDE = env.list("STEADY_HOOKS_INSIDE", default=[])
#: Processes beside the site's own that work out answers; 0: in the site's own threads.
ANSWER_WORKERS = env.int("STEADY_ANSWER_WORKERS", 1)
#: Longest that one of them may work at an answer, s.
ANSWER_LIMIT_S = env.float("STEADY_ANSWER_LIMIT_S", 60.0)
#: A queue of questions that all servers share, such as redis://127.0.0.1:6379/0; none unless given.
QUEUE_URL = env.str("STEADY_QUEUE_URL", "")
#: Copies of the demo that wait for visitors.
VISITOR_STOCK = env.int("STEADY_VISITOR_STOCK", 30 if DEMO else 0)
#: What one person may store: jobs, MB of photos, MB of captures, samples that wait.
MOST_JOBS = env.int("STEADY_MOST_JOBS", 1000)
MOST_PHOTO_MB = env.int("STEADY_MOST_PHOTO_MB", 300)
MOST_CAPTURE_MB = env.int("STEADY_MOST_CAPTURE_MB", 1000)
MOST_SAMPLES = env.int("STEADY_MOST_SAMPLES", 10_000_000)
#: Where photos, captures and uploads lie outside of the database; in it unless given. See
#: :mod:`web.common.storage_url`.
FILES_URL = env.str("STEADY_FILES_URL", "")
#: Networks that may read /metrics/, such as 127.0.0.1/32; none unless given.
METRICS_FROM = env.list("STEADY_METRICS_FROM", default=[])
#: Whether a fault in an answer ends the request (for tests), rather than being said on the page.
ANSWER_FAULTS_RAISE = False


def _secret_key() -> str:
    kept = DATA / "secret_key"
    given = env.str("STEADY_SECRET_KEY", "")
    return given or (kept.read_text().strip() if kept.is_file() else "")


# Empty until `python -m web.first_start` made one: Django then says so itself.
SECRET_KEY = _secret_key()
ALLOWED_HOSTS = env.list("STEADY_NAMES", default=["127.0.0.1", "localhost", HOST])

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.messages",
    "whitenoise.runserver_nostatic",
    "django.contrib.staticfiles",
    "django.forms",
    "csp",
    "axes",
    "django_otp",
    "django_otp.plugins.otp_totp",
    "django_otp.plugins.otp_static",
    "rest_framework",
    "drf_spectacular",
    "drf_spectacular_sidecar",
    "web.common",
    "web.accounts",
    "web.meters",
    "web.practice",
    "web.jobs",
    "web.loads",
    "web.house",
    "web.bench",
    "web.supplies",
    "web.plans",
    "web.matching",
    "web.trials",
    "web.rounds",
    "web.watch",
    "web.answer",
    "web.sheets",
    "web.find",
    "web.offline",
    "web.share",
    "web.api",
    "web.outward",
    "web.demo",
]

MIDDLEWARE = [
    # Pages of numbers shrink to a fifth; the length of a page is blurred against guessing secrets.
    "django.middleware.gzip.GZipMiddleware",
    "web.common.request_log.logged_requests",
    "django.middleware.security.SecurityMiddleware",
    "web.common.bodies.bounded_bodies",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "csp.middleware.CSPMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "web.common.middleware.private_pages",
    "web.common.middleware.named_version",
    "web.common.middleware.short_queries",
    "web.accounts.middleware.own_units",
    "web.common.middleware.Refusals",
    "django_htmx.middleware.HtmxMiddleware",
    "axes.middleware.AxesMiddleware",
]

ROOT_URLCONF = "web.urls"
WSGI_APPLICATION = "web.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE / "web" / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "django.contrib.messages.context_processors.messages",
                "web.common.context.look",
            ],
            "builtins": [
                "web.common.templatetags.words",
                "web.jobs.templatetags.access",
            ],
        },
    }
]
FORM_RENDERER = "django.forms.renderers.TemplatesSetting"

_DATABASE_URL = env.str("STEADY_DATABASE_URL", "")
DATABASES = {
    "default": env.db_url_config(_DATABASE_URL or f"sqlite:///{DATA / 'steady-needle.sqlite3'}")
}
if DATABASES["default"]["ENGINE"].endswith("sqlite3"):
    DATABASES["default"]["OPTIONS"] = {
        "transaction_mode": "IMMEDIATE",
        "timeout": 30,
        # FULL: what was acknowledged is on the disk when the power goes.
        "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; PRAGMA foreign_keys=ON;",
    }
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
#: "default" is shared by all processes (limits of rate). "answers" follow from their documents
#: alone: files, which outlive a restart, where there is no shared cache; "live" are those used
#: last, unpickled; "drawn" is what pages are made of.
_CACHE_URL = env.str("STEADY_CACHE_URL", "") or QUEUE_URL
CACHES = {"default": env.cache_url_config(_CACHE_URL or "dbcache://steady_cache")}
if "redis" in CACHES["default"]["BACKEND"].lower():
    CACHES["default"] |= {
        "BACKEND": "django_redis.cache.RedisCache",
        # Without Redis pages go on: nothing is kept, limits of rate do not count.
        "OPTIONS": {
            "IGNORE_EXCEPTIONS": True,
            "SOCKET_TIMEOUT": 1,
            "SOCKET_CONNECT_TIMEOUT": 1,
        },
    }
CACHES["live"] = {"BACKEND": "web.common.live_cache.LiveCache"}
CACHES["drawn"] = {
    "BACKEND": "django.core.cache.backends.locmem.LocMemCache",
    "LOCATION": "drawn",
    "OPTIONS": {"MAX_ENTRIES": 4000},
}
CACHES["answers"] = (
    CACHES["default"]
    if _CACHE_URL
    else {
        "BACKEND": "django.core.cache.backends.filebased.FileBasedCache",
        "LOCATION": DATA / "answers",
        "OPTIONS": {"MAX_ENTRIES": 500},
    }
)

AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "web.accounts.backends.AnyCaseBackend",
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"django.contrib.auth.password_validation.{name}"}
    for name in (
        "UserAttributeSimilarityValidator",
        "MinimumLengthValidator",
        "CommonPasswordValidator",
        "NumericPasswordValidator",
    )
]
LOGIN_URL = "accounts:sign-in"
LOGIN_REDIRECT_URL = "jobs:list"
LOGOUT_REDIRECT_URL = "accounts:sign-in"
AXES_FAILURE_LIMIT = 6
AXES_COOLOFF_TIME = 0.25  # hours
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_LOCKOUT_TEMPLATE = "accounts/locked.html"
AXES_RESET_ON_SUCCESS = True
AXES_USERNAME_CALLABLE = "web.accounts.backends.name_for_lockout"
#: The site's name in the app that shows codes of the second step.
OTP_TOTP_ISSUER = "Steady Needle"
# Wrong codes are limited for the account; a right one is taken at once after a wrong one.
OTP_TOTP_THROTTLE_FACTOR = OTP_STATIC_THROTTLE_FACTOR = 0
#: Where a forgotten password is mended by mail; without it, by ``manage.py changepassword``.
_EMAIL_URL = env.str("STEADY_EMAIL_URL", "")
MAIL = bool(_EMAIL_URL)
if MAIL:
    vars().update(env.email_url_config(_EMAIL_URL))
DEFAULT_FROM_EMAIL = env.str("STEADY_MAIL_FROM", "steady-needle@localhost")

LANGUAGE_CODE = "en-gb"
TIME_ZONE = env.str("STEADY_TIME_ZONE", "UTC")
USE_I18N = False
USE_TZ = True

STATIC_URL = "static/"
STATIC_ROOT = DATA / "static"
STATICFILES_DIRS = [BASE / "web" / "static"]
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {
        "BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"
        if DEBUG
        else "web.common.static_files.ModulesStorage"
    },
}
if FILES_URL:
    STORAGES["evidence"] = storage_of(FILES_URL)

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": [NONE],
        "script-src": [SELF],
        "style-src": [SELF],
        "font-src": [SELF],
        "img-src": [SELF, "data:"],
        "connect-src": [SELF],
        "form-action": [SELF],
        "base-uri": [NONE],
        "frame-ancestors": [NONE],
        "manifest-src": [SELF],
        "worker-src": [SELF],
    }
}
X_FRAME_OPTIONS = "DENY"

#: The interface for programs (web.api).
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["web.api.authentication.TokenAuthentication"],
    "DEFAULT_PERMISSION_CLASSES": ["web.api.authentication.RoleSuffices"],
    "DEFAULT_THROTTLE_CLASSES": ["web.api.authentication.PerToken"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["rest_framework.parsers.JSONParser"],
    "DEFAULT_SCHEMA_CLASS": "web.api.openapi.Operations",
    "EXCEPTION_HANDLER": "web.api.problems.handle",
    "UNAUTHENTICATED_USER": None,
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Steady Needle",
    "DESCRIPTION": "Read a job, and add readings, captures and check-ins, with a token of it.",
    "VERSION": "1",
    "OAS_VERSION": "3.1.1",
    "SERVE_INCLUDE_SCHEMA": False,
    "SERVE_AUTHENTICATION": [],
    "SERVE_PERMISSIONS": [],
    "POSTPROCESSING_HOOKS": ["web.api.openapi.add_schemas"],
    "PATH_CONVERTER_OVERRIDES": {"which": str},
    "SWAGGER_UI_DIST": "SIDECAR",
    "SWAGGER_UI_FAVICON_HREF": "SIDECAR",
}
SECURE_REFERRER_POLICY = "same-origin"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_HTTPONLY = True
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE_SSL_REDIRECT = HTTPS
# Whoever watches on this machine asks without HTTPS.
SECURE_REDIRECT_EXEMPT = [r"^(alive|ready|metrics)/$"]
SECURE_HSTS_SECONDS = 31_536_000 if HTTPS else 0
SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = HTTPS
# Without HTTPS the site serves this machine only: these warnings are for the other case.
SILENCED_SYSTEM_CHECKS = (
    []
    if HTTPS
    else [
        "security.W004",
        "security.W008",
        "security.W012",
        "security.W016",
    ]
)

DATA_UPLOAD_MAX_MEMORY_SIZE = 2_500_000
DATA_UPLOAD_MAX_NUMBER_FIELDS = 2000
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "filters": {
        "tokens": {"()": "web.common.log_filter.WithoutTokens"},
        "request": {"()": "web.common.request_log.WithRequestId"},
    },
    "formatters": {
        "text": {"format": "%(message)s"},
        "json": {"()": "web.common.request_log.AsJson"},
    },
    "handlers": {
        "console": {
            "class": "logging.StreamHandler",
            "filters": ["tokens", "request"],
            "formatter": env.str("STEADY_LOG", "text"),
        }
    },
    "loggers": {
        "steady.requests": {
            "handlers": ["console"],
            "level": "INFO" if env.bool("STEADY_LOG_REQUESTS", False) else "WARNING",
            "propagate": False,
        },
        "django": {"handlers": ["console"], "level": "WARNING"},
        "axes": {"handlers": ["console"], "level": "WARNING"},
    },
}
