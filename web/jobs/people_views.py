"""Who is at a job: the owner's page, joining, leaving; and what everybody changed."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from web.accounts.guards import is_everybodys
from web.common.rates import Rate
from web.jobs import people
from web.jobs.access import acting, of_job
from web.jobs.actions import KEPT_CHANGES
from web.jobs.forms import InviteForm, RoleForm
from web.jobs.models import Invitation, Job, Role

#: Invitations that one person makes, and invitations that one person tries to open, in an hour.
INVITING = Rate("inviting", 40, 3600)
OPENING = Rate("invitations", 60, 3600)


@require_http_methods(["GET", "POST"])
@of_job
def index(request: HttpRequest, job: Job) -> HttpResponse:
    """Everybody at a job; the owner's POST invites somebody."""
    form = InviteForm(request.POST or None, instance=Invitation(job=job))
    address = ""
    if request.method == "POST" and form.is_valid():
        if people.is_full(job) or INVITING.count(str(request.user.pk)):
            form.add_error(None, "That is enough for now: end an invitation, or try in an hour.")
        else:
            invitation, token = people.invite(form.instance)
            if invitation.by_link:
                address = request.build_absolute_uri(reverse("jobs:join", args=[token]))
            form = InviteForm(instance=Invitation(job=job))
    return _page(request, job, form, address)


def _page(
    request: HttpRequest, job: Job, form: InviteForm, address: str = "", is_refused: bool = False
) -> HttpResponse:
    access = acting()
    owns = access is not None and access.may(Role.OWNER)
    rows = [
        (member, RoleForm(instance=member, auto_id=f"role-{member.pk}", who=str(member.user)))
        for member in job.members.select_related("user")
    ]
    context = {
        "job": job,
        "rows": rows,
        "me": request.user.pk,
        "owner": job.owner.get_username(),
        "invitations": people.invitations_of(job) if owns else [],
        "form": form,
        "address": address,
    }
    status = 422 if form.is_bound or is_refused else 200
    response = render(request, "jobs/people.html", context, status=status)
    if address:
        response["Cache-Control"] = "no-store"
    return response


def _member(job: Job, pk: int) -> Any:
    return get_object_or_404(job.members.select_related("user"), pk=pk)


@require_POST
@of_job
def change_role(request: HttpRequest, job: Job, member: int) -> HttpResponse:
    record = _member(job, member)
    form = RoleForm(request.POST, instance=record, who=str(record.user))
    if not form.is_valid():
        return _page(request, job, InviteForm(instance=Invitation(job=job)), is_refused=True)
    people.set_role(record, form.cleaned_data["role"])
    messages.success(request, f"{record.user} is {Role.of(form.cleaned_data['role']).words} now.")
    return redirect("jobs:people", job.pk)


@require_POST
@of_job
def remove_member(request: HttpRequest, job: Job, member: int) -> HttpResponse:
    record = _member(job, member)
    people.end_membership(record)
    messages.success(request, f"{record.user} is no longer at this job.")
    return redirect("jobs:people", job.pk)


@require_POST
@of_job
def withdraw(request: HttpRequest, job: Job, invitation: int) -> HttpResponse:
    people.withdraw(get_object_or_404(job.invitations, pk=invitation))
    return redirect("jobs:people", job.pk)


@require_POST
@of_job(post=Role.VIEWER)
def leave(request: HttpRequest, job: Job) -> HttpResponse:
    """Leave a job that somebody else owns."""
    people.end_membership(get_object_or_404(job.members, user=request.user))
    messages.success(request, f"You left {job.name}.")
    return redirect("jobs:list")


@require_http_methods(["GET", "POST"])
def join(request: HttpRequest, token: str) -> HttpResponse:
    """What an invitation by link offers; a POST accepts it."""
    if OPENING.count(str(request.user.pk)):
        return render(request, "accounts/locked.html", status=429)
    invitation = people.invitation_of(token)
    if invitation is None:
        return render(request, "jobs/no_invitation.html", status=404)
    if request.method == "POST":
        return _joined(request, invitation)
    response = render(request, "jobs/join.html", {"invitation": invitation})
    response["Cache-Control"] = "no-store"
    return response


def _joined(request: HttpRequest, invitation: Invitation) -> HttpResponse:
    if is_everybodys(request.user):
        messages.error(request, "The demo account joins no job: others use it too.")
        return redirect("jobs:list")
    people.accept(invitation, request.user)
    return redirect("loads:survey", invitation.job_id)


@require_POST
def answer_invitation(request: HttpRequest, invitation: int) -> HttpResponse:
    """Accept or decline an invitation by name."""
    known = {record.pk: record for record in people.invitations_for(request.user)}
    if invitation not in known:
        raise Http404
    if request.POST.get("answer") == "join":
        return _joined(request, known[invitation])
    people.withdraw(known[invitation])
    return redirect("jobs:list")


@require_GET
@of_job
def changes(request: HttpRequest, job: Job) -> HttpResponse:
    """Who changed what, the latest first."""
    made = list(job.changes.all()[:KEPT_CHANGES])
    rows = [change for change, later in zip(made, [None, *made], strict=False) if _heads(later)]
    return render(request, "jobs/changes.html", {"job": job, "changes": rows})


def _heads(later: Any) -> bool:
    """Whether the change before this one in time is not part of it: several made as one."""
    return later is None or not later.joined
