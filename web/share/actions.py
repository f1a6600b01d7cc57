"""All changes of links and of what clients propose."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta
from typing import Any

from django.contrib.auth.hashers import check_password, make_password
from django.db import transaction
from django.db.models import F
from django.utils import timezone

from web.common.tokens import digest_of, new_token
from web.jobs.access import Access, acting, acting_as
from web.jobs.models import Job, Role
from web.loads.actions import WalkedLoad, add_walked
from web.loads.photos import Picture
from web.share.models import ACCEPTED, ASIDE, WAITING, Proposal, ShareLink

#: Days that a link lasts, unless said otherwise.
USUAL_DAYS = 7
#: Proposals of one link that may wait.
MOST_WAITING = 200


def add_link(link: ShareLink, days: float = USUAL_DAYS, word: str = "") -> tuple[ShareLink, str]:
    """Store a new link; return it and its token, which is not stored."""
    token, link.digest = new_token()
    link.word = make_password(word) if word else ""
    link.expires_at = timezone.now() + timedelta(days=days)
    link.save()
    return link, token


def link_of(token: str) -> ShareLink | None:
    """The link of a token; None for an unknown, ended or revoked one."""
    known = ShareLink.objects.select_related("job", "plan").filter(digest=digest_of(token))
    link = known.first()
    return link if link is not None and link.is_open else None


def is_word(link: ShareLink, word: str) -> bool:
    """Whether a word is the link's."""
    return check_password(word.strip(), link.word)


def count_opening(link: ShareLink) -> None:
    ShareLink.objects.filter(pk=link.pk).update(opened=F("opened") + 1, opened_at=timezone.now())


def revoke(link: ShareLink) -> None:
    """End a link for good."""
    ShareLink.objects.filter(pk=link.pk, revoked_at=None).update(revoked_at=timezone.now())


def propose(
    link: ShareLink, key: uuid.UUID, rows: Sequence[tuple[dict[str, Any], Picture | None]]
) -> int:
    """Store rows of a list as proposals, once per ``key``; return how many are new."""
    proposals = [
        Proposal(
            link=link,
            sent_key=key,
            number=number,
            values=values,
            large=picture.large if picture else None,
            small=picture.small if picture else None,
            width=picture.width if picture else 0,
            height=picture.height if picture else 0,
        )
        for number, (values, picture) in enumerate(rows)
    ]
    with transaction.atomic():
        before = link.proposals.count()
        Proposal.objects.bulk_create(proposals, ignore_conflicts=True)
        return link.proposals.count() - before


def is_full(link: ShareLink) -> bool:
    """Whether no more proposals are taken until some are decided."""
    return link.proposals.filter(state=WAITING).count() >= MOST_WAITING


def waiting_for(job: Job) -> list[Proposal]:
    """A job's proposals that wait, the oldest first."""
    waiting = Proposal.objects.filter(link__job=job, state=WAITING).select_related("link")
    return list(waiting.defer("large", "small"))


def accept(proposal: Proposal, walked: WalkedLoad) -> None:
    """Make a load of a proposal, marked as its client's; a second tap makes no other."""
    with transaction.atomic():
        decided = Proposal.objects.filter(pk=proposal.pk, state=WAITING).update(state=ACCEPTED)
        if not decided:
            return
        by = f"From {proposal.link.name}."
        load = walked.load
        load.note = f"{by} {load.note}".strip()[:400]
        picture = None
        if proposal.large and walked.data:
            picture = Picture(
                bytes(proposal.large), bytes(proposal.small or b""), proposal.width, proposal.height
            )
        with acting_as(_from_client(load.job, proposal.link.name)):
            (stored,) = add_walked(load.job, [replace(walked, picture=picture, note=by)])
        Proposal.objects.filter(pk=proposal.pk).update(load=stored)


def _from_client(job: Job, client: str) -> Access:
    """The access of who accepts a proposal, under the name of the client who noted it."""
    access = acting()
    if access is None:
        return Access(job, Role.LINK, client)
    return replace(access, who=f"{client[:40]}, accepted by {access.who}")


def set_aside(proposal: Proposal) -> None:
    """Leave a proposal out."""
    Proposal.objects.filter(pk=proposal.pk, state=WAITING).update(state=ASIDE)
