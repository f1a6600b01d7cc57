"""Links: made and revoked by a job's owner; and the inbox of what clients propose."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from web.common.addresses import key_of
from web.jobs.access import of_job
from web.jobs.announcing import announce_change
from web.jobs.models import Job, Role
from web.loads.walk_forms import WalkRowForm
from web.plans.outcomes import LONG_WAIT_S, current_plan, still_working
from web.share import actions
from web.share.forms import LinkForm
from web.share.models import WAITING, Proposal, ShareLink
from web.share.shown import sheet_context


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def links(request: HttpRequest, job: Job) -> HttpResponse:
    """The links of a job; a POST makes one and shows its address, once."""
    wanted = {"plan": key_of(request.GET.get("plan", "")) or None}
    form = LinkForm(request.POST or None, instance=ShareLink(), job=job, initial=wanted)
    address = ""
    if request.method == "POST" and form.is_valid():
        link, cleaned = form.instance, form.cleaned_data
        # A sheet stays that of its plan when another one becomes the current one.
        current = current_plan(job)
        plan = link.plan or (current if current.pk else None)
        link.plan = plan if link.shows == "sheet" else None
        if link.shows == "sheet" and cleaned["follows"] == "now":
            # Its pictures would need the link's own address.
            link.photos = False
            context = sheet_context(link, "", LONG_WAIT_S)
            if context["sheet"].answer.pending:
                return still_working()
            link.frozen = render_to_string("sheets/_sheet.html", context)
        _, token = actions.add_link(link, cleaned["days"], cleaned["secret"])
        address = request.build_absolute_uri(reverse("share:reader", args=[token]))
        form = LinkForm(instance=ShareLink(), job=job)
    shown = list(job.share_links.select_related("plan", "job"))
    context = {
        "job": job,
        "form": form,
        "links": shown,
        "address": address,
        "waiting": len(actions.waiting_for(job)),
    }
    status = 422 if form.is_bound else 200
    return render(request, "share/links.html", context, status=status)


@require_POST
@of_job
def revoke(request: HttpRequest, job: Job, link: int) -> HttpResponse:
    actions.revoke(get_object_or_404(job.share_links, pk=link))
    return redirect("share:links", job.pk)


def _row(proposal: Proposal, data: Any = None) -> WalkRowForm:
    """A proposal as a row that can be changed: checked, with what is odd marked."""
    prefix = f"p{proposal.pk}"
    known = ("name", "watts", "read_from", "often", "note")
    values = {f"{prefix}-{key}": proposal.values.get(key, "") for key in known}
    return WalkRowForm(values if data is None else data, prefix=prefix)


@require_GET
@of_job(see=Role.OWNER)
def inbox(request: HttpRequest, job: Job) -> HttpResponse:
    """What clients noted, to be accepted, changed or put aside one by one."""
    rows = [(proposal, _row(proposal)) for proposal in actions.waiting_for(job)]
    return render(request, "share/inbox.html", {"job": job, "rows": rows})


def _waiting(job: Job, pk: int) -> Proposal:
    waiting = Proposal.objects.filter(link__job=job, state=WAITING).select_related("link")
    record: Proposal = get_object_or_404(waiting, pk=pk)
    return record


@require_POST
@of_job
def accept(request: HttpRequest, job: Job, proposal: int) -> HttpResponse:
    """Make a load of a proposal, with what its fields hold now."""
    record = _waiting(job, proposal)
    form = _row(record, request.POST)
    name = form["name"].value() or ""
    if form.is_valid() and job.loads.live().filter(name=name).exists():
        form.add_error("name", f"There is a load called “{name}” already.")
    if form.is_valid() and not name:
        form.add_error("name", "Give it a name.")
    if form.is_valid() and record.large and form.cleaned_data.get("watts") is None:
        form.add_error("watts", "Give the watts that the photo shows.")
    if not form.is_valid():
        others = (other for other in actions.waiting_for(job) if other.pk != record.pk)
        rows = [(record, form), *((other, _row(other)) for other in others)]
        return render(request, "share/inbox.html", {"job": job, "rows": rows}, status=422)
    actions.accept(record, form.walked(job, name))
    announce_change(request, job)
    return redirect("share:inbox", job.pk)


@require_POST
@of_job
def set_aside(request: HttpRequest, job: Job, proposal: int) -> HttpResponse:
    actions.set_aside(_waiting(job, proposal))
    return redirect("share:inbox", job.pk)


@require_GET
@of_job(see=Role.OWNER)
def picture(request: HttpRequest, job: Job, proposal: int) -> HttpResponse:
    """The photo of a proposal that waits."""
    record = _waiting(job, proposal)
    response = HttpResponse(bytes(record.large or b""), content_type="image/jpeg")
    response["Cache-Control"] = "no-store"
    return response
