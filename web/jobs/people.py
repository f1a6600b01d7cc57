"""All changes of who is at a job: inviting, joining, leaving."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.contrib.auth import get_user_model
from django.db import transaction
from django.utils import timezone

from web.common.tokens import digest_of, new_token
from web.jobs.models import Invitation, Job, Member, Role

#: How long an invitation lasts.
LASTS = timedelta(days=7)
#: Members and open invitations of a job.
MOST_PEOPLE = 30


def invite(invitation: Invitation) -> tuple[Invitation, str]:
    """Store an invitation; return it and its token, which is not stored.

    One by name reaches the account of that name in any case, if there is one.
    """
    token, invitation.digest = new_token()
    invitation.expires_at = timezone.now() + LASTS
    if not invitation.by_link:
        users = get_user_model().objects
        invitation.user = users.filter(username__iexact=invitation.name, is_active=True).first()
    invitation.save()
    return invitation, token


def _open() -> Any:
    """Invitations that can be accepted."""
    current = Invitation.objects.filter(expires_at__gt=timezone.now(), job__removed_at=None)
    return current.select_related("job", "job__owner")


def invitation_of(token: str) -> Invitation | None:
    """The invitation that a link's token belongs to; None for an unknown, used or ended one."""
    found: Invitation | None = _open().filter(by_link=True, digest=digest_of(token)).first()
    return found


def invitations_for(user: Any) -> list[Invitation]:
    """Open invitations of an account by its name."""
    return list(_open().filter(by_link=False, user=user))


def invitations_of(job: Job) -> list[Invitation]:
    """A job's invitations that nobody has accepted yet, ended ones left out."""
    return list(_open().filter(job=job))


def is_full(job: Job) -> bool:
    """Whether nobody more can be invited."""
    return job.members.count() + len(invitations_of(job)) >= MOST_PEOPLE


def accept(invitation: Invitation, user: Any) -> None:
    """Make a user a member; the invitation is used up. A member keeps the higher role."""
    if invitation.job.owner_id == user.pk:
        # The owner only tried it: it stays for whom it is meant.
        return
    with transaction.atomic():
        used, _ = Invitation.objects.filter(pk=invitation.pk).delete()
        if not used:
            return
        member, created = Member.objects.get_or_create(
            job=invitation.job, user=user, defaults={"role": invitation.role}
        )
        if not created and member.role < invitation.role:
            set_role(member, invitation.role)


def withdraw(invitation: Invitation) -> None:
    """End an invitation: by the owner, or by who declines it."""
    Invitation.objects.filter(pk=invitation.pk).delete()


def set_role(member: Member, role: int) -> None:
    Member.objects.filter(pk=member.pk).update(role=int(Role.of(role)))


def end_membership(member: Member) -> None:
    """Take somebody off a job, at once; what they entered stays, under their name."""
    Member.objects.filter(pk=member.pk).delete()
