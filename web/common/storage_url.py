"""The storage of photos, captures and uploads that a URL names, as Django's settings want it."""

from __future__ import annotations

from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from django.core.exceptions import ImproperlyConfigured

#: Longest that a server of objects may take to be reached, and to answer, s.
_REACHED_S, _ANSWERS_S = 2, 10
_FORMS = "file:///FOLDER or s3://KEY:SECRET@HOST:PORT/BUCKET"


def storage_of(url: str) -> dict[str, Any]:
    """An entry of ``STORAGES``.

    Parameters
    ----------
    url : str
        ``file:///FOLDER``, of a folder that all servers share; or ``s3://KEY:SECRET@HOST:PORT/
        BUCKET``, with ``?tls=no`` for a server without HTTPS and ``&region=NAME`` where it has
        regions. Special characters in key and secret are percent-encoded.

    Raises
    ------
    django.core.exceptions.ImproperlyConfigured
        It is neither.
    """
    parts = urlsplit(url)
    folder = unquote(parts.path)
    if parts.scheme == "file" and not parts.netloc and folder.strip("/"):
        return {
            "BACKEND": "django.core.files.storage.FileSystemStorage",
            "OPTIONS": {
                "location": folder,
                "file_permissions_mode": 0o600,
                "directory_permissions_mode": 0o700,
            },
        }
    bucket = folder.strip("/")
    if parts.scheme != "s3" or not parts.hostname or not bucket or "/" in bucket:
        raise ImproperlyConfigured(f"STEADY_FILES_URL is {_FORMS}")
    return {"BACKEND": "storages.backends.s3.S3Storage", "OPTIONS": _s3_options(url, bucket)}


def _s3_options(url: str, bucket: str) -> dict[str, Any]:
    # Only here: a site without such a server does not need the package.
    from botocore.config import Config

    parts = urlsplit(url)
    asked = {name: values[-1] for name, values in parse_qs(parts.query).items()}
    protocol = "http" if asked.get("tls") == "no" else "https"
    return {
        "bucket_name": bucket,
        "access_key": unquote(parts.username or ""),
        "secret_key": unquote(parts.password or ""),
        "endpoint_url": f"{protocol}://{parts.netloc.rpartition('@')[2]}",
        "region_name": asked.get("region"),
        "default_acl": None,
        "client_config": Config(
            connect_timeout=_REACHED_S,
            read_timeout=_ANSWERS_S,
            retries={"total_max_attempts": 2},
            signature_version="s3v4",
            s3={"addressing_style": "path"},
        ),
    }
