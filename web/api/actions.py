"""All changes of tokens of programs."""

from __future__ import annotations

from datetime import timedelta

from django.utils import timezone

from web.api.models import ApiToken
from web.common.tokens import digest_of, new_token

#: Tokens of a job that are not revoked.
MOST_TOKENS = 20
#: How exactly is noted when a token was last used: not each request writes.
NOTED = timedelta(minutes=1)


def add_token(token: ApiToken) -> tuple[ApiToken, str]:
    """Store a new token; return it and its text, which is not stored."""
    text, token.digest = new_token()
    token.save()
    return token, text


def token_of(text: str) -> ApiToken | None:
    """The token with this text; None for an unknown or revoked one, or of a removed job."""
    known = ApiToken.objects.select_related("job", "job__owner").filter(
        digest=digest_of(text), revoked_at=None, job__removed_at=None
    )
    token: ApiToken | None = known.first()
    if token is not None:
        _note_use(token)
    return token


def _note_use(token: ApiToken) -> None:
    now = timezone.now()
    if token.used_at is None or now - token.used_at > NOTED:
        ApiToken.objects.filter(pk=token.pk).update(used_at=now)


def revoke(token: ApiToken) -> None:
    """End a token for good."""
    ApiToken.objects.filter(pk=token.pk, revoked_at=None).update(revoked_at=timezone.now())
