"""Tokens of links, invitations, loggers and programs: random, and stored as their hash only.

A token is looked up by its hash, so the time of a look-up tells nothing about the token.
"""

from __future__ import annotations

import hashlib
import secrets


def digest_of(token: str) -> str:
    """The hash that is stored of a token."""
    return hashlib.sha256(token.encode()).hexdigest()


def new_token() -> tuple[str, str]:
    """A new token of 32 random bytes, and its hash."""
    token = secrets.token_urlsafe(32)
    return token, digest_of(token)
