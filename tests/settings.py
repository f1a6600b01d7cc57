"""Settings of the test runs: a database of their own, fast hashing, no collected files."""

import os
import tempfile
from pathlib import Path

from web.settings import *  # noqa: F403
from web.settings import CACHES, MIDDLEWARE, STORAGES, env

SECRET_KEY = "only-for-tests"
DEMO = True
ALLOWED_HOSTS = ["*"]
# A file, as in use: the live server's threads then wait for one another instead of failing, which
# an in-memory database that they share cannot do.
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": ":memory:",
        "OPTIONS": {
            "transaction_mode": "IMMEDIATE",
            "timeout": 20,
            "init_command": "PRAGMA journal_mode=MEMORY; PRAGMA synchronous=OFF; "
            "PRAGMA foreign_keys=ON;",
        },
        "TEST": {"NAME": Path(tempfile.gettempdir()) / f"steady-needle-{os.getpid()}.sqlite3"},
    }
}
if os.environ.get("STEADY_DATABASE_URL"):  # `make scale`: the same tests on another database
    DATABASES = {"default": env.db_url("STEADY_DATABASE_URL")}
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
STORAGES = {
    **STORAGES,
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
}
# Answers are kept in the process, for all of its tests.
CACHES = {
    **CACHES,
    "answers": {
        "BACKEND": "django.core.cache.backends.locmem.LocMemCache",
        "KEY_FUNCTION": "tests.few_draws.answer_key",
    },
}
# WhiteNoise would look for collected files; the live test server serves them itself.
MIDDLEWARE = [name for name in MIDDLEWARE if "whitenoise" not in name]
TEST_RUNNER = "tests.runner.TimedRunner"
AXES_ENABLED = True
# Answers are worked out where they are asked for.
ANSWER_WORKERS = 0
# No copies are made beside a test.
VISITOR_STOCK = 0
ANSWER_FAULTS_RAISE = True
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"unknown": {"class": "tests.templates.UnknownNames"}},
    "loggers": {
        "django": {"level": "CRITICAL"},
        "django.template": {"level": "DEBUG", "handlers": ["unknown"], "propagate": False},
        "axes": {"level": "CRITICAL"},
    },
}
