"""What goes out of a job: the broker, and webhooks. The owner's page."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from web.bench.forms import may_name_topics
from web.jobs.access import of_job
from web.jobs.models import Job, Role
from web.outward.forms import HookForm, PublishingForm
from web.outward.models import Hook, Publishing

#: Webhooks of a job, and messages of each that are shown.
MOST_HOOKS, SHOWN = 10, 5


@require_http_methods(["GET", "POST"])
@of_job(see=Role.OWNER)
def index(request: HttpRequest, job: Job) -> HttpResponse:
    """The webhooks of a job; a POST makes one and shows its secret."""
    form = HookForm(request.POST or None, instance=Hook(job=job))
    made = None
    if request.method == "POST" and form.is_valid():
        if job.hooks.count() >= MOST_HOOKS:
            form.add_error(None, "That is enough: remove one that is not needed any more.")
        else:
            made, form = form.save(), HookForm(instance=Hook(job=job))
    response = _page(request, job, form, made)
    if made is not None:
        response["Cache-Control"] = "no-store"
    return response


def _page(request: HttpRequest, job: Job, form: HookForm, made: Hook | None) -> HttpResponse:
    hooks = [(hook, list(hook.deliveries.all()[:SHOWN])) for hook in job.hooks.all()]
    can_publish = bool(settings.MQTT_OUT) and may_name_topics(request.user)
    context: dict[str, Any] = {
        "job": job,
        "form": form,
        "hooks": hooks,
        "made": made,
        "publishing": PublishingForm(instance=_publishing(job)) if can_publish else None,
        "topic": f"{settings.MQTT_OUT}/jobs/{job.pk}/",
    }
    status = 422 if form.is_bound else 200
    return render(request, "outward/index.html", context, status=status)


def _publishing(job: Job) -> Publishing:
    known = Publishing.objects.filter(job=job).first()
    return known or Publishing(job=job, number=job.pk)


@require_POST
@of_job
def publish(request: HttpRequest, job: Job) -> HttpResponse:
    """Publish the job's figures on the broker, or stop."""
    if not settings.MQTT_OUT or not may_name_topics(request.user):
        return redirect("outward:index", job.pk)
    form = PublishingForm(request.POST, instance=_publishing(job))
    if form.is_valid():
        form.save()
    return redirect("outward:index", job.pk)


@require_POST
@of_job
def remove(request: HttpRequest, job: Job, hook: int) -> HttpResponse:
    """Tell a webhook nothing any more."""
    get_object_or_404(job.hooks, pk=hook).delete()
    return redirect("outward:index", job.pk)
