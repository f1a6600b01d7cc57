"""Jobs: list, new job, details, and undo."""

from __future__ import annotations

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from web.accounts.views import spares_the_shared_demo
from web.common.addresses import own_path
from web.common.folding import folded
from web.common.forms import client_key
from web.jobs import actions, people
from web.jobs.access import access_list, acting, of_job
from web.jobs.forms import JobForm, NameForm
from web.jobs.models import Job, Role


@require_http_methods(["GET", "POST"])
def index(request: HttpRequest) -> HttpResponse:
    """The user's jobs; a POST creates one."""
    form = JobForm(request.POST or None, instance=Job(owner=request.user))  # type: ignore[misc]
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        job = actions.add_job(form.instance)
        first = not job.loads.live().exists()
        return redirect("loads:add" if first else "loads:survey", job.pk)
    context = {
        "form": form,
        "jobs": folded(access_list(request.user), request),
        "invitations": people.invitations_for(request.user),
        "removed": Job.objects.in_bin_of(request.user),
    }
    return render(request, "jobs/list.html", context, status=422 if form.is_bound else 200)


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def edit(request: HttpRequest, job: Job) -> HttpResponse:
    form = JobForm(request.POST or None, instance=job)
    if request.method == "POST" and form.is_valid():
        actions.save_change(job, form.instance, f"Changed {job.name}")
        return redirect("loads:survey", job.pk)
    stored = Job.objects.get(pk=job.pk)
    status = 422 if form.is_bound else 200
    return render(request, "jobs/edit.html", {"form": form, "job": stored}, status=status)


@require_POST
@of_job
@spares_the_shared_demo
def remove(request: HttpRequest, job: Job) -> HttpResponse:
    actions.remove(job, job, f"Removed {job.name}")
    actions.empty_bin(request.user)
    messages.info(request, f"Removed the job {job.name}.", extra_tags=f"removed-job {job.pk}")
    return redirect("jobs:list")


@require_http_methods(["GET", "POST"])
@spares_the_shared_demo
def delete(request: HttpRequest, job: int) -> HttpResponse:
    """Delete a job permanently, removed or not, after its name was typed."""
    record = get_object_or_404(Job, pk=job, owner=request.user)
    form = NameForm(request.POST or None, name=record.name)
    if request.method == "POST" and form.is_valid():
        actions.delete_job(record)
        messages.success(request, f"{form.name} deleted.")
        return redirect("jobs:list")
    status = 422 if form.is_bound else 200
    return render(request, "jobs/delete.html", {"job": record, "form": form}, status=status)


@require_POST
def restore(request: HttpRequest, job: int) -> HttpResponse:
    """Restore a removed job."""
    record = get_object_or_404(Job.objects.in_bin_of(request.user), pk=job)
    actions.restore_job(record)
    return redirect("loads:survey", record.pk)


@require_POST
@of_job(post=Role.MEASURER)
def undo(request: HttpRequest, job: Job, change: int) -> HttpResponse:
    made, access = job.changes.filter(pk=change).first(), acting()
    if made is not None and access is not None and not access.may_undo(made):
        raise PermissionDenied(
            f"{made.made_by or 'The owner'} entered this: only they and the owner can undo it."
        )
    undone = actions.undo(job, change)
    if undone is None:
        messages.info(request, "Another change came after it, so it was left as it is.")
    else:
        messages.info(request, f"Undone: {undone.label[0].lower()}{undone.label[1:]}.")
    back = own_path(request.POST.get("next", ""))
    return HttpResponseRedirect(back or reverse("loads:survey", args=[job.pk]))
