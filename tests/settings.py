"""Settings of the test runs: everything in memory, fast hashing, no collected files."""

from web.settings import *  # noqa: F403
from web.settings import MIDDLEWARE, STORAGES

SECRET_KEY = "only-for-tests"
DEMO = True
ALLOWED_HOSTS = ["*"]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": ":memory:",
        "OPTIONS": {"init_command": "PRAGMA foreign_keys=ON;"},
    }
}
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
STORAGES = {
    **STORAGES,
    "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
}
# WhiteNoise would look for collected files; the live test server serves them itself.
MIDDLEWARE = [one for one in MIDDLEWARE if "whitenoise" not in one]
AXES_ENABLED = True
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "loggers": {"django": {"level": "CRITICAL"}, "axes": {"level": "CRITICAL"}},
}
