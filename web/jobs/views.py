"""Jobs: the list, a new one, its details, and undoing the latest change."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST

from web.common.addresses import own_path
from web.common.forms import client_key
from web.jobs import actions
from web.jobs.access import of_job
from web.jobs.forms import JobForm, NameForm
from web.jobs.models import Job


@require_http_methods(["GET", "POST"])
def index(request: HttpRequest) -> HttpResponse:
    """The user's jobs; posting makes a new one."""
    form = JobForm(request.POST or None, instance=Job(owner=request.user))  # type: ignore[misc]
    if request.method == "POST" and form.is_valid():
        form.instance.client_key = client_key(form)
        job = actions.add_job(form.instance)
        first = not job.loads.live().exists()
        return redirect("loads:add" if first else "loads:survey", job.pk)
    jobs = Job.objects.visible_to(request.user)
    status = 422 if form.is_bound else 200
    return render(request, "jobs/list.html", {"form": form, "jobs": jobs}, status=status)


@require_http_methods(["GET", "POST"])
@of_job
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
def remove(request: HttpRequest, job: Job) -> HttpResponse:
    actions.remove(job, job, f"Removed {job.name}")
    messages.info(request, f"Removed the job {job.name}.", extra_tags="removed-job")
    return redirect("jobs:list")


@require_http_methods(["GET", "POST"])
@of_job
def delete(request: HttpRequest, job: Job) -> HttpResponse:
    """Delete a job for good, once its name was typed."""
    form = NameForm(request.POST or None, name=job.name)
    if request.method == "POST" and form.is_valid():
        actions.delete_job(job)
        messages.success(request, f"Deleted {form.name} for good.")
        return redirect("jobs:list")
    status = 422 if form.is_bound else 200
    return render(request, "jobs/delete.html", {"job": job, "form": form}, status=status)


@require_POST
def restore(request: HttpRequest) -> HttpResponse:
    """Bring back the job that was removed last."""
    job = actions.restore_latest_job(request.user)
    if job is None:
        messages.info(request, "There is no removed job to bring back.")
        return redirect("jobs:list")
    return redirect("loads:survey", job.pk)


@require_POST
@of_job
def undo(request: HttpRequest, job: Job, change: int) -> HttpResponse:
    undone = actions.undo(job, change)
    if undone is None:
        messages.info(request, "Another change came after it, so it was left as it is.")
    else:
        messages.info(request, f"Undone: {undone.label[0].lower()}{undone.label[1:]}.")
    back = own_path(request.POST.get("next", ""))
    return HttpResponseRedirect(back or reverse("loads:survey", args=[job.pk]))
